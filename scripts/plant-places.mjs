// Where npm run plant spoils something: settings of an app, what a provider sends, and what an API behind a guard is called with.
import { beginSignIn, finishSignIn, openProvider, problemText, refreshGrant } from "tenonsaw";
import { openGuard } from "tenonsaw/guard";
import { createTools, prepareKey, publicPart, signJws } from "tenonsaw/jose";
import { createPlatform } from "tenonsaw/platform";
import { isProblem } from "tenonsaw/problem";
import { createSignIn, describeReport, readSettingsText } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { withTexts } from "tenonsaw/texts";
import { newKeyPair } from "./key-pair.mjs";
import { sealingKey } from "./sealing-key.mjs";

const noon = 1_790_000_000;
const issuer = "https://id.quayside.example";
const tools = createTools();
const pair = newKeyPair("ec", { namedCurve: "P-256" });
const ownKey = { ...pair.privateKey.export({ format: "jwk" }), kid: "key-1", use: "sig", alg: "ES256" };
const signing = await prepareKey(tools, ownKey, "ES256", "sign");
const sign = (claims, header) => signJws(tools, signing, claims, header);
/** Stands for what is known only once there is a request. */
const made = "(made)";
const fill = (value, now) => (typeof value === "string" ? value.replaceAll(made, now) : value);
const halfHash = async (text) => {
  const digest = await crypto.subtle.digest("SHA-256", new TextEncoder().encode(text));
  return Buffer.from(digest).subarray(0, 16).toString("base64url");
};

const secret = (name) => ({ env: `${name}_SECRET` });
const by = (name, more) => ({ issuer: `https://${name}.example`, clientId: "ferrywell", ...more });
const settingsDocument = () => ({
  origin: "https://ferrywell.example",
  proxies: { header: "forwarded", addresses: ["10.0.0.0/8"], otherOrigins: ["https://club.example"] },
  cookiePrefix: "ferrywell",
  basePath: "/sign-in",
  keys: { env: "APP_KEYS" },
  apis: {
    tidebook: {
      provider: "quayside",
      origin: "https://tidebook.example",
      scope: "tides.read",
      resource: "https://tidebook.example/",
      tokenClaims: { ver: "2" },
      clientScope: "gate.read",
      sample: "/tides/today",
      relay: ["/tides/*", "POST,DELETE /slots/*"],
    },
    ledger: { provider: "ledgerhouse", origin: "https://api.ledgerhouse.example", audience: "ledger" },
  },
  connections: {
    ledgerhouse: {
      alsoForSignIn: false,
      scope: "books.read",
      account: { parameter: "company", confirmedBy: { api: "ledger", path: "/companies" }, id: "/id" },
      scopeWords: { "books.read": "read the books" },
      shared: false,
    },
  },
  pages: {
    chooser: "/choose",
    declined: "/declined",
    failed: "/failed",
    signedIn: "/home",
    signedOut: "/bye",
  },
  theme: { surface: "white", accent: "navy", corner: "4px" },
  texts: { da: { signIn: "Log ind", signInWith: "Log ind med {provider}" } },
  signOut: { atProvider: true, revokeTokens: true },
  sessionLifetimeSeconds: 86_400,
  sessionIdleSeconds: 3600,
  sessionKinds: { own: { lifetimeSeconds: 864_000, idleSeconds: 86_400, endsWithBrowser: false } },
  sessionCacheSeconds: 10,
  sessionEventsSeconds: 20,
  toldToPages: ["name", "claims"],
  providers: {
    quayside: by("quayside", {
      title: "Quayside ID",
      clientSecret: secret("QUAYSIDE"),
      clientAuthentication: "client_secret_basic",
      profile: { name: "/name", email: ["/email", "/mail"] },
      sessionClaims: { roles: "/roles" },
      timeoutSeconds: 10,
      idTokenSignedResponseAlg: "ES256",
      responseType: "code",
      responseMode: "query",
      trustedAudiences: ["other"],
      scope: "openid profile tides.read",
      resource: "https://tidebook.example/",
      deviations: { authorizationParameters: { audience_hint: "tides" } },
    }),
    ledgerhouse: by("ledgerhouse", {
      clientSecret: secret("LEDGER"),
      scope: "openid books.read",
      deviations: { keepCallbackParameters: ["company"] },
    }),
    lockgate: by("lockgate", {
      discovery: "none",
      clientSecret: secret("LOCKGATE"),
      scope: "profile",
      profile: { subject: "/user/id" },
      metadata: {
        authorizationEndpoint: "https://lockgate.example/authorize",
        tokenEndpoint: "https://lockgate.example/token",
        userinfoEndpoint: "https://lockgate.example/me",
      },
      deviations: { noIdToken: true },
    }),
    wharf: by("wharf", {
      protocol: "oauth1",
      clientSecret: secret("WHARF"),
      signatureMethod: "HMAC-SHA1",
      temporaryCredentialsEndpoint: "https://wharf.example/request",
      authorizationEndpoint: "https://wharf.example/authorize",
      tokenEndpoint: "https://wharf.example/token",
      profile: { subject: "/id" },
    }),
  },
});

async function startApp(document) {
  const { settings } = readSettingsText(JSON.stringify(document, undefined, 1), "settings");
  const platform = createPlatform({
    environment: (name) =>
      name === "APP_KEYS" ? sealingKey : name.endsWith("_SECRET") ? "s3cret-enough" : undefined,
    print: () => undefined,
  });
  await createSignIn({ ...settings, store: createMemoryStore(), platform });
  return "";
}

const claims = { iss: issuer, sub: "qs-1", aud: "ferrywell", exp: noon + 300, iat: noon };
const providerDocuments = () => ({
  metadata: {
    issuer,
    authorization_endpoint: `${issuer}/authorize`,
    token_endpoint: `${issuer}/token`,
    jwks_uri: `${issuer}/keys`,
    userinfo_endpoint: `${issuer}/userinfo`,
    pushed_authorization_request_endpoint: `${issuer}/push`,
    require_pushed_authorization_requests: true,
    id_token_signing_alg_values_supported: ["ES256"],
    token_endpoint_auth_methods_supported: ["client_secret_basic"],
    authorization_response_iss_parameter_supported: true,
  },
  keys: publicPart(ownKey),
  header: { kid: "key-1", typ: "JWT" },
  claims: {
    ...claims,
    nonce: made,
    auth_time: noon,
    azp: "ferrywell",
    acr: "gold",
    at_hash: made,
    name: "Maren",
  },
  push: { request_uri: "urn:example:1", expires_in: 60 },
  callback: { state: made, code: "c", iss: issuer },
  token: {
    access_token: "at-1",
    token_type: "Bearer",
    expires_in: 300,
    refresh_token: "rt-1",
    scope: "openid",
    id_token: made,
  },
  userinfo: { sub: "qs-1", name: "Maren" },
  refreshed: {
    access_token: "at-2",
    token_type: "Bearer",
    expires_in: 300,
    refresh_token: "rt-2",
    scope: "openid",
  },
});

async function signInAt(documents) {
  const told = [];
  let [attempt, answer] = [undefined, documents.token];
  const idToken = async () => {
    const { nonce, at_hash: hash, ...rest } = documents.claims;
    const filled = {
      nonce: fill(nonce, attempt.nonce),
      at_hash: fill(hash, await halfHash(String(answer.access_token))),
    };
    const given = Object.entries(filled).filter(([name]) => name in documents.claims);
    return sign({ ...rest, ...Object.fromEntries(given) }, documents.header);
  };
  const pages = {
    "/keys": () => ({ keys: [documents.keys] }),
    "/push": () => documents.push,
    "/userinfo": () => documents.userinfo,
    "/token": async () =>
      "id_token" in answer ? { ...answer, id_token: fill(answer.id_token, await idToken()) } : answer,
    "/.well-known/openid-configuration": () => documents.metadata,
  };
  const platform = createPlatform({
    now: () => noon + 1,
    print: () => undefined,
    async fetch(url) {
      const { pathname } = new URL(url);
      const page = pages[pathname];
      return page
        ? Response.json(await page(), { status: pathname === "/push" ? 201 : 200 })
        : new Response("", { status: 404 });
    },
  });
  const trace = (event) =>
    event.kind === "note" && told.push(`${event.note} ${JSON.stringify(event.detail)}`);
  const settings = { issuer, clientId: "ferrywell", clientSecret: "s3cret-enough", scope: "openid" };
  const provider = await openProvider(settings, { platform, trace });
  const begun = await beginSignIn(provider, {
    redirectUri: "https://ferrywell.example/back",
    maxAge: 600,
    acrValues: "gold",
  });
  attempt = begun.attempt;
  const back = new URLSearchParams();
  for (const [name, value] of Object.entries(documents.callback))
    for (const each of [value].flat()) back.append(name, name === "state" ? fill(each, attempt.state) : each);
  const outcome = await finishSignIn(provider, attempt, back);
  if (outcome.kind === "failed") return { refused: problemText(withTexts(outcome.problem)) };
  if (outcome.kind !== "granted") return outcome.kind;
  answer = documents.refreshed;
  const { identity, grant } = outcome;
  const renewed = await refreshGrant(provider, grant);
  // What is another value with each sign-in.
  const claimsKnown = Object.entries(identity.claims).filter(
    ([name]) => !["nonce", "at_hash"].includes(name),
  );
  return JSON.stringify([
    begun.url.split("?")[0],
    identity.profile,
    claimsKnown,
    grant.expiresAt,
    grant.scope,
    renewed.expiresAt,
    told,
  ]);
}

const guardDocuments = () => ({
  settings: {
    issuer,
    audience: "https://tidebook.example",
    scopes: ["tides.read"],
    name: "tidebook",
    origin: "https://tidebook.example",
    timeoutSeconds: 5,
    algorithms: ["ES256"],
    discovery: "openid",
    roles: "/roles",
    claims: { ver: 2 },
    client: {
      clientId: "tidebook",
      clientSecret: "s3cret-enough",
      clientAuthentication: "client_secret_basic",
    },
    downstream: { slipway: { audience: "slipway", scope: "gate.read" } },
  },
  needs: { scope: "tides.read", role: "member", maxAge: 600, acrValues: "gold" },
  header: { kid: "key-1", typ: "at+jwt" },
  claims: {
    ...claims,
    aud: "https://tidebook.example",
    auth_time: noon,
    jti: "j",
    client_id: "ferrywell",
    scope: "tides.read",
    roles: ["member"],
    acr: "gold",
    ver: 2,
  },
});

async function callApi({ settings, needs, header, claims: said }) {
  const told = [];
  const platform = createPlatform({
    now: () => noon + 1,
    print: () => undefined,
    fetch: (url) =>
      Promise.resolve(
        Response.json(
          url.endsWith("/keys")
            ? { keys: [publicPart(ownKey)] }
            : { issuer, jwks_uri: `${issuer}/keys`, token_endpoint: `${issuer}/token` },
        ),
      ),
  });
  const onProblem = (report) => told.push(describeReport(report));
  const guard = await openGuard({ ...settings, platform, onProblem });
  const answering = guard.protect((_request, { subject, scope }) => Response.json([subject, scope]), needs);
  const headers = { authorization: `Bearer ${await sign(said, header)}` };
  const answer = await answering(new Request("https://tidebook.example/tides", { headers }));
  const text = `${answer.headers.get("www-authenticate") ?? ""} ${await answer.text()} ${told.join(" ")}`;
  return answer.ok ? text : { refused: text };
}

/** By area: what may be spoilt, and what comes of it: what is shown, or what is said where it is refused. */
export const places = {
  settings: [settingsDocument, startApp],
  provider: [providerDocuments, signInAt],
  guard: [guardDocuments, callApi],
};

/** What becomes of documents, spoilt or not: `refused` where something said no, `foreign` where that was no problem of ours. */
export async function outcomeOf(run, documents) {
  try {
    const result = await run(documents);
    return typeof result === "string" ? { shown: result } : result;
  } catch (error) {
    return isProblem(error) ? { refused: problemText(withTexts(error)) } : { foreign: String(error.stack) };
  }
}

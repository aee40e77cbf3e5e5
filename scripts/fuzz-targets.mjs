// What is fuzzed with its structure in mind: tokens that are signed whatever is in them, key sets, answers of a provider,
// headers, and a whole app through a sequence of requests. Each target takes a source of chance and makes its own input.
import { webcrypto } from "node:crypto";
import * as nodeCrypto from "node:crypto";
import { refreshGrant } from "../packages/tenonsaw/dist/grant/index.js";
import {
  compareRefreshedIdToken,
  fetchUserinfo,
  mapProfile,
  validateIdToken,
  validateLogoutToken,
} from "../packages/tenonsaw/dist/identity/index.js";
import { isRefusal, openGuard } from "../packages/tenonsaw/dist/guard/index.js";
import {
  explainScope,
  findHost,
  missingScopes,
  readContext,
} from "../packages/tenonsaw/dist/launch/index.js";
import { createTools, prepareKey, signJws, thumbprint } from "../packages/tenonsaw/dist/jose/index.js";
import { createPlatform } from "../packages/tenonsaw/dist/platform/index.js";
import { createNodeEngine } from "../packages/tenonsaw/dist/platform/node-engine.js";
import { createWebEngine } from "../packages/tenonsaw/dist/platform/web-engine.js";
import {
  openHost,
  openProvider,
  parseChallenges,
  registerClient,
} from "../packages/tenonsaw/dist/provider/index.js";
import { quoted, visible } from "../packages/tenonsaw/dist/problem/index.js";
import { createSignIn, notePeer } from "../packages/tenonsaw/dist/server/index.js";
import { createOriginReader } from "../packages/tenonsaw/dist/server/door/public-origin.js";
import { createCookieStore } from "../packages/tenonsaw/dist/stores/cookie.js";
import { createMemoryStore } from "../packages/tenonsaw/dist/stores/memory.js";
import { describeEvent } from "../packages/tenonsaw/dist/trace/index.js";
import { newKeyPair } from "./key-pair.mjs";
import { sealingKey } from "./sealing-key.mjs";

const now = 1_790_000_000;
const issuer = "https://id.quayside.example";
const origin = "https://ferrywell.example";
const engines = [createNodeEngine(nodeCrypto), createWebEngine(webcrypto.subtle)];
const keyPair = newKeyPair("ed25519");
const privateJwk = { ...keyPair.privateKey.export({ format: "jwk" }), kid: "k", alg: "EdDSA" };
const publicJwk = { ...keyPair.publicKey.export({ format: "jwk" }), kid: "k", alg: "EdDSA", use: "sig" };
const signing = await prepareKey(createTools(), privateJwk, "EdDSA", "sign");

/** Values that a member may have and should not. */
const odd = [
  null,
  true,
  0,
  -1,
  1.5,
  1e21,
  "",
  " ",
  "\u0000",
  "\u001b[2J\n",
  "\ud800",
  "__proto__",
  "x".repeat(5000),
  {},
  { toString: 1, valueOf: 1, then: 1 },
  { length: 1e9 },
  [],
  [[]],
  [null],
  [{}],
  { __proto__: null, constructor: {} },
  JSON.parse('{"__proto__":{"polluted":1}}'),
  JSON.parse('[{"a":'.repeat(40) + "1" + "}]".repeat(40)),
];

/** A copy in which a few members, at whatever depth, are something else, gone, or new. */
function mutateJson(random, value) {
  const copy = structuredClone(value);
  for (let round = random(3); round >= 0; round -= 1) {
    let at = copy;
    for (;;) {
      const names = Object.keys(at);
      const name =
        names.length === 0 || random(8) === 0
          ? ["x", "__proto__", "then"][random(3)]
          : names[random(names.length)];
      const inner = Object.hasOwn(at, name) ? at[name] : undefined;
      if (typeof inner === "object" && inner !== null && random(3) > 0) {
        at = inner;
        continue;
      }
      if (random(4) === 0) delete at[name];
      else
        Object.defineProperty(at, name, {
          value: structuredClone(odd[random(odd.length)]),
          enumerable: true,
          configurable: true,
          writable: true,
        });
      break;
    }
  }
  return copy;
}

const clinic = openHost(
  {
    issuer: "https://records.boathouse.example/fhir",
    discovery: "smart",
    launch: { context: { cox: "object" } },
  },
  {},
);
const launchContext = {
  patient: "rower-jun",
  encounter: "visit-202",
  fhirContext: [{ reference: "ImagingStudy/1", role: "launch" }, { identifier: { value: "x" } }],
  need_patient_banner: true,
  intent: "review-training",
  smart_style_url: "https://records.boathouse.example/style",
  tenant: "riverside",
  cox: { name: "Ib" },
};
const hosts = [
  { name: "one", issuer: clinic.base },
  {
    name: "many",
    issuer: "https://records.boathouse.example/{house}/fhir",
    launch: { tenants: { placeholder: "{house}", admitted: "any" } },
  },
];
const metadata = {
  issuer,
  authorization_endpoint: `${issuer}/authorize`,
  token_endpoint: `${issuer}/token`,
  jwks_uri: `${issuer}/keys`,
  userinfo_endpoint: `${issuer}/userinfo`,
  revocation_endpoint: `${issuer}/revoke`,
  registration_endpoint: `${issuer}/register`,
  end_session_endpoint: `${issuer}/end-session`,
  id_token_signing_alg_values_supported: ["EdDSA"],
  token_endpoint_auth_methods_supported: ["client_secret_basic"],
  mtls_endpoint_aliases: { token_endpoint: `${issuer}/token` },
};
const claims = {
  iss: issuer,
  sub: "qs-10231",
  aud: "ferrywell",
  azp: "ferrywell",
  exp: now + 300,
  iat: now,
  nbf: now,
  auth_time: now,
  acr: "one",
  sid: "sid-1",
  amr: ["pwd"],
  name: "Maren Holt",
  address: { country: "x" },
  roles: ["coach"],
};
const notice = {
  iss: issuer,
  sub: "qs-10231",
  sid: "sid-1",
  aud: "ferrywell",
  iat: now,
  exp: now + 60,
  jti: "j",
  events: { "http://schemas.openid.net/event/backchannel-logout": {} },
};
const tokens = {
  access_token: "at-1",
  token_type: "Bearer",
  expires_in: 300,
  refresh_token: "rt-1",
  scope: "openid",
  error: "invalid_grant",
  error_description: "why",
};
const grant = {
  issuer,
  clientId: "ferrywell",
  accessToken: "at",
  refreshToken: "rt",
  scope: "openid",
  obtainedAt: now,
};

/** A network whose answers are a table, with a trace that is read as a person would. */
function toolsWith(answers, crypto = engines[0]) {
  return createTools({
    platform: createPlatform({
      print: () => undefined,
      crypto,
      now: () => now,
      fetch: (url) => {
        const answer = answers[new URL(url).pathname.slice(1)];
        return Promise.resolve(answer?.clone() ?? new Response("", { status: 404 }));
      },
    }),
    trace: describeEvent,
  });
}
const json = (value, init) =>
  new Response(JSON.stringify(value), { headers: { "content-type": "application/json" }, ...init });
const openAt = (tools, settings = {}) =>
  openProvider({ issuer, clientId: "ferrywell", clientSecret: "s", ...settings }, tools);
const usual = (more = {}) => ({
  ".well-known/openid-configuration": json(metadata),
  keys: json({ keys: [publicJwk] }),
  ...more,
});
const providers = await Promise.all(engines.map((crypto) => openAt(toolsWith(usual(), crypto))));
const signed = (payload, header) =>
  signJws({ platform: createPlatform() }, signing, payload, { kid: "k", ...header });
const oddHeader = (random) =>
  random(3) === 0
    ? { [["kid", "typ", "cty", "jwk", "crit", "x5c"][random(6)]]: odd[random(odd.length)] }
    : {};
const mapping = {
  subject: "/sub",
  name: ["/address/country", "/name"],
  roles: "/roles",
  picture: "/picture",
};

const app = await createSignIn({
  origin,
  keys: sealingKey,
  store: createMemoryStore(),
  providers: { quayside: { issuer, clientId: "ferrywell", clientSecret: "s", responseMode: "form_post" } },
  proxies: { header: "forwarded", addresses: ["10.0.0.0/8"] },
  sessionKinds: { long: { lifetimeSeconds: 60 } },
  platform: toolsWith(usual()).platform,
  trace: describeEvent,
  development: true,
});
const cookieApp = await createSignIn({
  origin,
  keys: sealingKey,
  store: createCookieStore(),
  sessionLifetimeSeconds: 60,
  providers: { quayside: { issuer, clientId: "ferrywell", clientSecret: "s" } },
  platform: toolsWith(usual()).platform,
});
/** What the last answer of the app has given: the next request brings it along, whole or not. */
const carried = { cookie: "", state: "" };
const words = [
  "state",
  "code",
  "iss",
  "error",
  "returnTo",
  "maxAge",
  "scope",
  "in",
  "kind",
  "acrValues",
  "logout_token",
  "sid",
];

async function request(random, mutate) {
  const route = ["", "/to/quayside", "/from/quayside", "/link/quayside", "/unlink", "/session", "/keys"];
  const routes = [
    ...route,
    "/back-channel/quayside",
    "/front-channel/quayside",
    "/out",
    "/out/done",
    "/x/y/z",
  ];
  const path = random(5) === 0 ? mutate(routes[random(routes.length)]) : routes[random(routes.length)];
  const logout = random(4) === 0 ? await signed(mutateJson(random, notice), oddHeader(random)) : "";
  const values = [
    carried.state,
    "c0de",
    issuer,
    "access_denied",
    "/tides?x=1",
    "60",
    "tides.read",
    "pop-up",
    "long",
    "two",
    logout,
    "sid-1",
  ];
  const chosen = words.flatMap((word, index) =>
    random(3) > 0 ? [] : [[word, random(4) === 0 ? mutate(values[index]) : values[index]]],
  );
  const form = new URLSearchParams(chosen).toString();
  const method = ["GET", "POST", "POST", "HEAD", "DELETE"][random(5)];
  const headers = new Headers();
  const maybe = (name, value) => {
    try {
      if (random(3) > 0) headers.set(name, random(6) === 0 ? mutate(value) : value);
    } catch {
      // not a header at all
    }
  };
  maybe("cookie", carried.cookie);
  maybe("origin", origin);
  maybe("host", "ferrywell.example");
  maybe("forwarded", 'for="[2001:db8::1]:4711";proto=https;host=ferrywell.example, for=10.0.0.2');
  maybe("accept", random(2) ? "application/json" : "text/html");
  maybe("accept-language", "de-CH, de;q=0.9, *;q=0.1");
  maybe("user-agent", "A browser");
  maybe("sec-fetch-site", "same-origin");
  const url = `${origin}/sign-in${path}${method === "POST" ? "" : `?${form}`}`;
  if (!URL.canParse(url)) return undefined;
  const made = new Request(url, { method, headers, ...(method === "POST" && { body: form }) });
  notePeer(made, random(2) ? "10.0.0.1" : "203.0.113.9");
  return made;
}

/** An answer, whatever was asked: nothing may come out of an app's routes but that. */
async function visit(random, mutate, signIn) {
  const made = await request(random, mutate);
  if (!made) return "refused";
  const answer = await signIn.handle(made);
  if (!answer) return "refused";
  const set = answer.headers.getSetCookie().map((line) => line.split(";")[0]);
  if (set.length > 0) carried.cookie = set.join("; ");
  const state = /[?&]state=([\w-]+)/.exec(answer.headers.get("location") ?? "")?.[1];
  if (state !== undefined) carried.state = state;
  await signIn.session(made);
  if (answer.status >= 500 && ![501, 502, 503].includes(answer.status))
    throw new RangeError(`status ${answer.status}: ${await answer.text()}`);
  return answer.status < 400 ? "accepted" : "refused";
}

const readOrigin = (header) =>
  createOriginReader(toolsWith({}), {
    origin,
    proxies: { header, addresses: ["10.0.0.0/8"], otherOrigins: [] },
  });
const [forwarded, xForwarded] = [readOrigin("forwarded"), readOrigin("x-forwarded")];
function proxied(read, name, text) {
  const made = new Request(`${origin}/`, {
    headers: { [name]: text.replace(/[^\t -~\u0080-\u00ff]/g, "?"), host: "ferrywell.example" },
  });
  notePeer(made, "10.0.0.1");
  return read(made);
}

const audience = "https://tidebook.example";
const owner = newKeyPair("ed25519");
const ownerJwk = owner.publicKey.export({ format: "jwk" });
const proving = await prepareKey(
  createTools(),
  { ...owner.privateKey.export({ format: "jwk" }), alg: "EdDSA" },
  "EdDSA",
  "sign",
);
const cnf = { jkt: await thumbprint(createTools(), ownerJwk) };
const accessClaims = {
  ...claims,
  aud: audience,
  client_id: "ferrywell",
  jti: "j",
  scope: "tides.read",
  act: { sub: "desk" },
};
const secrets = { clientSecret: "cs", tokenSecret: "ts", subject: "qs-10231", scope: "tides.read" };
const guard = await openGuard({
  issuer,
  audience,
  keys: [publicJwk],
  formToken: true,
  signedRequests: {
    credentialsOf: (id) => (id === "archive" ? secrets : undefined),
    methods: ["PLAINTEXT", "HMAC-SHA256"],
  },
  platform: toolsWith(usual()).platform,
  onProblem: () => undefined,
});
const boundToken = await signed({ ...accessClaims, cnf }, { typ: "at+jwt" });
const boundHash = nodeCrypto.createHash("sha256").update(boundToken).digest("base64url");
const plainToken = await signed(accessClaims, { typ: "at+jwt" });
let proofs = 0;

/** A call of the API: what comes of it is a caller, or a refusal whose answer can be sent. */
async function callApi(headers, needs = { scope: "tides.read" }) {
  const plain = Object.entries(headers).map(([name, text]) => [
    name,
    text.replace(/[^\t -~\u0080-\u00ff]/g, "?"),
  ]);
  try {
    return await guard.admit(new Request(`${audience}/tides?day=2`, { headers: plain }), needs);
  } catch (error) {
    if (isRefusal(error) && error.response().status >= 500)
      throw new RangeError(`status ${error.status}`, { cause: error });
    throw error;
  }
}
const signedHeader =
  'OAuth realm="x", oauth_consumer_key="archive", oauth_token="t", oauth_signature_method="PLAINTEXT", oauth_signature="cs%26ts"';

export const structured = [
  [
    "accessToken",
    async (random) =>
      callApi(
        {
          authorization: `Bearer ${await signed(mutateJson(random, accessClaims), { typ: "at+jwt", ...oddHeader(random) })}`,
        },
        {
          scope: "tides.read",
          claims: { "/address/country": (value) => value !== 7 },
          actor: ["desk"],
        },
      ),
  ],
  [
    "proof",
    async (random) => {
      proofs += 1;
      const good = { jti: `p${proofs}`, htm: "GET", htu: `${audience}/tides`, iat: now, ath: boundHash };
      const header = {
        typ: "dpop+jwt",
        jwk: random(4) === 0 ? mutateJson(random, ownerJwk) : ownerJwk,
        ...(random(2) ? {} : oddHeader(random)),
      };
      const proof = await signJws(
        createTools(),
        proving,
        random(2) ? good : mutateJson(random, good),
        header,
      );
      return callApi({ authorization: `DPoP ${boundToken}`, dpop: proof });
    },
  ],
  [
    "authorization",
    (random, mutate) => callApi({ authorization: mutate(`Bearer ${plainToken}`), cookie: mutate("a=b") }),
  ],
  ["signedRequest", (random, mutate) => callApi({ authorization: mutate(signedHeader) })],
  [
    "idToken",
    async (random) =>
      validateIdToken(providers[random(2)], await signed(mutateJson(random, claims), oddHeader(random)), {
        maxAge: 60,
        acrValues: ["one"],
      }),
  ],
  [
    "logoutToken",
    async (random) =>
      validateLogoutToken(
        providers[random(2)],
        await signed(mutateJson(random, notice), { typ: "logout+jwt", ...oddHeader(random) }),
      ),
  ],
  [
    "refreshedIdToken",
    async (random) =>
      compareRefreshedIdToken(
        providers[random(2)],
        { idToken: await signed(mutateJson(random, claims)), accessToken: "at" },
        { subject: "qs-10231", idToken: await signed(mutateJson(random, claims)) },
      ),
  ],
  [
    "keySet",
    async (random) => {
      const keys = mutateJson(random, { keys: [publicJwk, { kty: "RSA", n: "AQAB", e: "AQAB", kid: "r" }] });
      const provider = await openAt(toolsWith(usual({ keys: json(keys) }), engines[random(2)]));
      return validateIdToken(provider, await signed(claims, random(2) ? { kid: undefined } : {}), {});
    },
  ],
  [
    "metadata",
    (random) =>
      openAt(toolsWith(usual({ ".well-known/openid-configuration": json(mutateJson(random, metadata)) }))),
  ],
  [
    "userinfo",
    async (random) => {
      const provider = await openAt(toolsWith(usual({ userinfo: json(mutateJson(random, claims)) })));
      const told = await fetchUserinfo(provider, grant, "qs-10231");
      return mapProfile(provider.tools, random(2) ? mapping : {}, told);
    },
  ],
  [
    "tokenAnswer",
    async (random) => {
      const good = { ...tokens };
      delete good.error;
      const answer = mutateJson(random, random(2) ? good : tokens);
      const headers = { "dpop-nonce": "n", "retry-after": String(odd[random(12)]).replace(/[^ -~]/g, "") };
      const init = { status: [200, 200, 400, 401, 429, 500][random(6)], headers };
      const provider = await openAt(toolsWith(usual({ token: json(answer, init) })), {
        dpopBoundAccessTokens: random(4) === 0,
      });
      return refreshGrant(provider, grant);
    },
  ],
  [
    "registration",
    async (random) => {
      const answer = {
        client_id: "c",
        client_secret: "s",
        client_secret_expires_at: 0,
        token_endpoint_auth_method: "client_secret_basic",
      };
      const provider = await openAt(
        toolsWith(usual({ register: json(mutateJson(random, answer), { status: 201 }) })),
      );
      return registerClient(provider, {});
    },
  ],
  [
    "launchContext",
    (random) => readContext(clinic, mutateJson(random, launchContext), "patient/*.rs launch/encounter"),
  ],
  [
    "launchHost",
    (random, mutate) =>
      findHost(
        hosts,
        random(3) === 0 ? hosts[0].issuer : mutate("https://records.boathouse.example/mill-lane/fhir"),
      ),
  ],
  [
    "launchScopes",
    (random, mutate) => {
      const text = mutate(
        "patient/Observation.rs?category=laboratory launch/patient?role=a user/*.read openid",
      );
      return [
        explainScope(text),
        ...text.split(" ").map(explainScope),
        missingScopes(text, "patient/*.rs openid"),
      ];
    },
  ],
  [
    "challenges",
    (random, mutate) =>
      parseChallenges(mutate('Bearer realm="a\\"b", error=invalid_token, DPoP algs="ES256", Basic QQ==')),
  ],
  [
    "forwarded",
    (random, mutate) =>
      proxied(forwarded, "forwarded", mutate('for="[2001:db8::1]:80";proto=https;host=ferrywell.example')),
  ],
  [
    "xForwarded",
    (random, mutate) =>
      proxied(
        xForwarded,
        random(2) ? "x-forwarded-for" : "x-forwarded-proto",
        mutate("10.0.0.2, 203.0.113.9"),
      ),
  ],
  ["appInSequence", (random, mutate) => visit(random, mutate, app)],
  ["cookieAppInSequence", (random, mutate) => visit(random, mutate, cookieApp)],
];

/** What takes text, for the question how its time grows with it. */
export const growing = [
  ["authorization", (text) => callApi({ authorization: `Bearer ${text}` })],
  ["signedRequest", (text) => callApi({ authorization: `OAuth ${text}` })],
  ["dpop", (text) => callApi({ authorization: `DPoP ${boundToken}`, dpop: text })],
  ["challenges", (text) => parseChallenges(text)],
  ["forwarded", (text) => proxied(forwarded, "forwarded", text)],
  ["xForwarded", (text) => proxied(xForwarded, "x-forwarded-for", text)],
  [
    "cookies",
    (text) =>
      app.session(new Request(`${origin}/`, { headers: { cookie: text.replace(/[^\t -~]+/g, "?") } })),
  ],
  ["quoted", (text) => quoted(text)],
  ["visible", (text) => visible(text)],
];

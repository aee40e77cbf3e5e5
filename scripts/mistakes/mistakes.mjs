// Each mistake: how it comes about, how it is planted and found, and what has to be said of it: the cause, what came and
// what was expected where there are two values, and on which side to change what.
import { beginSignIn, fetchWithGrant, finishSignIn, openProvider } from "tenonsaw";
import { createPlatform } from "tenonsaw/platform";
import { createTools, prepareKey, signJws } from "tenonsaw/jose";
import { openGuard } from "tenonsaw/guard";
import { forExpress } from "tenonsaw/express";
import { createCertifiedFetch, nodeListener } from "tenonsaw/node";
import { createSignIn, passOn } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createVisitor, defaultClient } from "tenonsaw-practice";
import { connectedAccounts } from "./connecting.mjs";
import {
  api,
  app,
  calling,
  begin,
  check,
  checkApi,
  clock,
  explain,
  good,
  launched,
  metadataOf,
  odd,
  oddOrigin,
  origin,
  practice,
  redirectUri,
  register,
  settingsFile,
  signInAs,
  trySignIn,
  withQuayside,
} from "./places.mjs";

const here = /change here|Change it there|Correct|\. Add |Check\s+`/i;
const there = /at the provider/i;
const harbour = {
  issuer: `${practice.harbour}/{organisation}`,
  clientId: "ferrywell",
  clientSecret: { env: "QUAYSIDE_SECRET" },
  deviations: {
    metadataUrl: `${practice.harbour}/common/.well-known/openid-configuration`,
    tenants: { placeholder: "{organisation}", admitted: ["rowing-club"] },
  },
};
const elsewhere = (issuer, more = {}) => withQuayside({ issuer, ...more });
const quaysideInCode = () => ({ ...good.providers.quayside, clientSecret: process.env.QUAYSIDE_SECRET });
const secret = (value) => ({ plant: () => (process.env.QUAYSIDE_SECRET = value), find: check });
const refused = (cause) => ({ cause, received: /The\s+secret\s+is\s+wrong/, side: here });
const now = () => Math.floor(Date.now() / 1000);
const pasted = (make, more = []) => ({ find: async () => explain(await make(), ...more) });

/** What the browser says of a call by a page's own script. */
const ownPage = { "sec-fetch-site": "same-origin", "sec-fetch-mode": "cors", "sec-fetch-dest": "empty" };
/** Nobody waits half a minute here for a function that never answers. */
const hurried = createPlatform({
  print: () => undefined,
  wait: (seconds, signal) => createPlatform().wait(seconds === 30 ? 0.1 : seconds, signal),
});

/** A page of somebody who is signed in, by what its handler gives back. */
const handling = (handler) => ({
  find: () =>
    app(
      async (place) => {
        odd.set("/tides", [200, { "content-type": "application/json" }, '{"tides":[]}']);
        const cookie = await signInAs(place);
        const page = place.signIn.protect((_request, session) => handler(session));
        await page(new Request(`${origin}/tides`, { headers: { cookie } }));
      },
      { apis: { tides: { provider: "quayside", origin: oddOrigin } } },
    ),
});

/** A form's post from a page, as a browser sends it. */
function from(page, host = page) {
  return { method: "POST", headers: { origin: page, host: new URL(host).host } };
}

/** What ends an app before it has begun. */
async function thrown(work) {
  try {
    await work({ ...good, store: createMemoryStore() });
  } catch (error) {
    return { shown: "node server.mjs", output: `${error.name}: ${error.message}` };
  }
  throw new TypeError("nothing was thrown");
}

async function signed(claims, header = {}) {
  const tools = createTools();
  const jwk = { ...(await createPlatform().crypto.generateKey("P-256")), kid: "k", alg: "ES256" };
  return signJws(tools, await prepareKey(tools, jwk, "ES256", "sign"), claims, { kid: "k", ...header });
}
const claims = { iss: practice.issuer, aud: "ferrywell", sub: "qs-10231" };
const unsigned = (header, payload) =>
  [header, payload].map((part) => Buffer.from(JSON.stringify(part)).toString("base64url")).join(".");

async function foreignToken() {
  practice.register({ ...defaultClient, clientId: "ferrywell-staging", redirectUris: [redirectUri] });
  const provider = await openProvider({
    issuer: practice.issuer,
    clientId: "ferrywell-staging",
    clientSecret: defaultClient.clientSecret,
  });
  const { url, attempt } = await beginSignIn(provider, { redirectUri });
  const visitor = createVisitor();
  await visitor.open(url);
  const page = await visitor.press("Maren");
  const [, request] = /name="request" value="([^"]+)"/.exec(page.text);
  const body = new URLSearchParams({ request, decision: "allow" });
  const answer = await visitor.fetch(`${practice.issuer}/authorize/decision`, { method: "POST", body });
  const { grant } = await finishSignIn(provider, attempt, answer.headers.get("location"));
  return grant.idToken;
}

/** A sign-in at a provider that plays a fault, up to its end in the app. */
const playing = (rehearsal) => ({
  find: () =>
    app(async (place) => {
      practice.rehearse(rehearsal);
      await signInAs(place).catch(() => undefined);
    }),
});

/** A callback with what the browser, or somebody on the way, makes of it. */
const comingBack = (more, headersOf, changes) => ({
  find: () =>
    app(async (place) => {
      const begun = await begin(place);
      await place.open(begun.back(more), { headers: headersOf(begun) });
    }, changes),
});
const withCookie = ({ cookie }) => ({ cookie });

export const areas = {
  Registration: [
    {
      title: "A trailing slash in the registered redirect URI",
      plant: () => register(`${redirectUri}/`),
      find: check,
      says: {
        cause: /the redirect URI is refused/,
        received: /sent +http:\S+\/from\/quayside/,
        expected: /registered +http:\S+\/from\/quayside\//,
        side: there,
      },
    },
    {
      title: "https registered, http sent",
      plant: () => register(redirectUri.replace("http:", "https:")),
      find: check,
      says: {
        cause: /the redirect URI is refused/,
        received: /sent +http:/,
        expected: /registered +https:/,
        side: there,
      },
    },
    {
      title: "Another port registered",
      plant: () => register("http://localhost:3000/sign-in/from/quayside"),
      find: check,
      says: {
        cause: /the redirect URI is refused/,
        received: /sent +http:/,
        expected: /registered +http:\/\/localhost:3000/,
        side: there,
      },
    },
    {
      title: "127.0.0.1 registered, localhost sent",
      plant: () => register(redirectUri.replace("localhost", "127.0.0.1")),
      find: check,
      says: {
        cause: /the redirect URI is refused/,
        received: /sent +http:\/\/localhost/,
        expected: /registered +http:\/\/127\.0\.0\.1/,
        side: there,
      },
    },
    {
      title: "The client ID of another environment",
      settings: withQuayside({ clientId: "ferrywell-live" }),
      find: check,
      says: { cause: /This client is not\s+registered/, side: here },
    },
    {
      title: "A scope that is misspelt",
      settings: withQuayside({ scope: "openid profile tides.reed" }),
      find: check,
      says: {
        cause: /quayside, scopes/,
        received: /not offered: tides\.reed/,
        expected: /offered: openid/,
        side: here,
      },
    },
    {
      title: "A connection's scope that is misspelt",
      settings: { ...good, connections: { quayside: { alsoForSignIn: true, scope: "openid tides.reed" } } },
      find: check,
      says: {
        cause: /connections\.quayside\.scope/,
        received: /not offered: tides\.reed/,
        expected: /offered: openid/,
        side: here,
      },
    },
    {
      title: "A wrong clock",
      plant: () => (clock.ahead = 240),
      find: check,
      says: { cause: /this machine is 2\d\d s behind the provider/, side: here },
    },
  ],
  "The provider's address": [
    {
      title: "A slash too many in the issuer",
      settings: elsewhere(`${practice.issuer}/`),
      find: check,
      says: {
        cause: /names the issuer with another end/,
        received: /received +http:\S+/,
        expected: /expected +http:\S+\//,
        side: here,
      },
    },
    {
      title: "An authorization endpoint by hand that is not there",
      settings: withQuayside({ metadata: { authorizationEndpoint: `${practice.issuer}/authorise` } }),
      find: check,
      says: { cause: /authorise answers with status 404/, side: /`metadata\.authorizationEndpoint`/ },
    },
    {
      title: "A token endpoint by hand that is not there",
      settings: withQuayside({ metadata: { tokenEndpoint: `${practice.issuer}/tokens` } }),
      find: check,
      says: {
        cause: /is no token endpoint/,
        received: /status\s+404/,
        side: /`metadata\.tokenEndpoint`/,
      },
    },
    {
      title: "A userinfo endpoint by hand that is not there",
      settings: withQuayside({ metadata: { userinfoEndpoint: `${practice.issuer}/me` } }),
      find: check,
      says: { cause: /\/me without a token: status 404/, side: /`metadata\.userinfoEndpoint`/ },
    },
    {
      title: "Metadata that is not where the settings say",
      settings: withQuayside({ deviations: { metadataUrl: `${practice.issuer}/metadata` } }),
      find: check,
      says: {
        cause: /no metadata where the settings say/,
        received: /status\s+404\s+from\s+http/,
        side: /`deviations\.metadataUrl`/,
      },
    },
    {
      title: "A space behind the issuer",
      settings: withQuayside({ issuer: `${practice.issuer} ` }),
      find: check,
      says: { cause: /issuer: .*white\s+space\s+at\s+an\s+end/s, received: /text with\s+white/, side: here },
    },
    {
      title: "The metadata of plain OAuth asked for at an OpenID provider",
      settings: withQuayside({ discovery: "oauth" }),
      find: check,
      says: {
        cause: /publishes\s+no\s+metadata/,
        received: /oauth-authorization-server/,
        side: /leave\s+`discovery/,
      },
    },
    {
      title: "A tenant's own address, where all have one document",
      settings: {
        origin,
        providers: { quayside: { ...harbour, issuer: `${practice.harbour}/common`, deviations: {} } },
      },
      find: check,
      says: {
        cause: /placeholder for the tenant/,
        received: /\{organisation\}/,
        expected: /\/common/,
        side: /deviations\.tenants/,
      },
    },
    {
      title: "One policy's document, another policy's issuer",
      settings: elsewhere(oddOrigin),
      plant: () =>
        odd.set("/.well-known/openid-configuration", metadataOf({ issuer: `${oddOrigin}/members` })),
      find: check,
      says: {
        cause: /another issuer at the same place/,
        received: /\/members/,
        expected: /expected/,
        side: /metadataUrl/,
      },
    },
    {
      title: "The issuer of another environment behind the same name",
      settings: elsewhere(oddOrigin),
      plant: () =>
        odd.set("/.well-known/openid-configuration", metadataOf({ issuer: "https://live.quayside.example" })),
      find: check,
      says: {
        cause: /issuer at another origin/,
        received: /live\.quayside/,
        expected: /expected/,
        side: here,
      },
    },
    {
      title: "A path too many",
      settings: elsewhere(`${practice.issuer}/oauth`),
      find: check,
      says: { cause: /publishes no metadata/, received: /status 404 from\s+\S+/, side: here },
    },
    {
      title: "The address of a page for people",
      settings: elsewhere(oddOrigin),
      plant: () =>
        odd.set("/.well-known/openid-configuration", [
          200,
          { "content-type": "text/html" },
          "<!doctype html><h1>Welcome</h1>",
        ]),
      find: check,
      says: { cause: /A web page came in place of JSON/, received: /text\/html/, side: here },
    },
    {
      title: "A gateway that asks for credentials",
      settings: elsewhere(oddOrigin),
      plant: () => odd.set("/.well-known/openid-configuration", [401, {}, ""]),
      find: check,
      says: { cause: /metadata is not for everybody/, received: /status 401/, side: here },
    },
    {
      title: "A provider under maintenance",
      settings: elsewhere(oddOrigin),
      plant: () => odd.set("/.well-known/openid-configuration", [503, { "retry-after": "120" }, ""]),
      find: check,
      says: { cause: /busy or out of order/, received: /503/, side: here },
    },
    {
      title: "A redirect to another address",
      settings: elsewhere(oddOrigin),
      plant: () =>
        odd.set("/.well-known/openid-configuration", [301, { location: "https://id.quayside.example/" }, ""]),
      find: check,
      says: { cause: /answered with a redirect/, received: /id\.quayside\.example/, side: here },
    },
    {
      title: "A port where nothing listens",
      settings: elsewhere("http://localhost:4999"),
      find: check,
      says: { cause: /Nothing listens/, received: /localhost:4999: "ECONNREFUSED"/, side: here },
    },
    {
      title: "A port that is kept for something else",
      settings: elsewhere("http://localhost:9"),
      find: check,
      says: { cause: /kept for other services/, received: /localhost:9/, side: here },
    },
    {
      title: "A misspelt host",
      settings: elsewhere("https://id.quayside.invalid"),
      find: check,
      says: {
        cause: /not known/i,
        received: /id\.quayside\.invalid/,
        side: here,
      },
    },
    {
      title: "A network that only its proxy leads out of",
      settings: elsewhere("https://id.quayside.invalid"),
      plant: () => (process.env.HTTPS_PROXY = "http://proxy.ferrywell.example:3128"),
      find: check,
      says: {
        cause: /proxy\s+that\s+the\s+environment\s+names\s+was\s+not\s+asked/,
        received: /id\.quayside\.invalid/,
        side: /NODE_USE_ENV_PROXY=1/,
      },
    },
    {
      title: "https at a port that speaks http",
      settings: elsewhere(practice.issuer.replace("http:", "https:")),
      find: check,
      says: { cause: /does not speak TLS/, received: /localhost/, side: /scheme and\s+port/ },
    },
    {
      title: "Certificates that nobody checks",
      settings: elsewhere(practice.secure.tidebook),
      plant: () => (process.env.NODE_TLS_REJECT_UNAUTHORIZED = "0"),
      find: check,
      says: {
        cause: /NODE_TLS_REJECT_UNAUTHORIZED\s+is\s+0/,
        received: /certificate\s+is\s+not\s+trusted\s+here:\s+localhost/,
        side: /Take\s+it\s+away/,
      },
    },
    {
      title: "A certificate of an authority of one's own",
      settings: elsewhere(practice.secure.tidebook),
      find: check,
      says: { cause: /certificate is not trusted/, received: /localhost/, side: /NODE_EXTRA_CA_CERTS/ },
    },
    {
      title: "A signature algorithm that the provider does not have",
      settings: withQuayside({ idTokenSignedResponseAlg: "PS512" }),
      find: check,
      says: {
        cause: /does not offer what the settings ask for/,
        received: /ES256/,
        expected: /PS512/,
        side: /idTokenSignedResponseAlg/,
      },
    },
    {
      title: "A client authentication that the provider does not have",
      settings: elsewhere(oddOrigin, { clientAuthentication: "client_secret_post" }),
      plant: () =>
        odd.set(
          "/.well-known/openid-configuration",
          metadataOf({ token_endpoint_auth_methods_supported: ["client_secret_basic"] }),
        ),
      find: check,
      says: {
        cause: /does not offer what the settings ask for/,
        received: /client_secret_basic/,
        expected: /client_secret_post/,
        side: /clientAuthentication/,
      },
    },
  ],
  "Secrets and keys": [
    {
      title: "A wrong secret",
      ...secret("last-years-s3cret"),
      says: refused(/client ID or secret is not accepted/),
    },
    {
      title: "A secret with a line break at its end",
      ...secret("only-for-practice\n"),
      says: refused(/white space at its ends/),
    },
    {
      title: "A secret with its quotes",
      ...secret('"only-for-practice"'),
      says: refused(/quotes around it/),
    },
    {
      title: "A secret, and a setting that it is not to be sent",
      ...secret("only-for-practice"),
      settings: withQuayside({ clientAuthentication: "none" }),
      says: { cause: /secret\s+was\s+not\s+sent/, received: /has\s+to\s+authenticate/, side: here },
    },
    {
      title: "A secret that nothing put in its place",
      ...secret("${QUAYSIDE_SECRET}"),
      says: refused(/name of a variable/),
    },
    {
      title: "A placeholder for the secret",
      ...secret("your-client-secret"),
      says: refused(/is a placeholder/),
    },
    {
      title: "A secret with characters that Basic encodes",
      ...secret("only/for+practice="),
      says: refused(/characters that Basic encodes/),
    },
    {
      title: "A variable that is not set",
      settings: withQuayside({ clientSecret: { env: "QUAYSIDE_SECRT" } }),
      find: check,
      says: { cause: /environment variable\s+QUAYSIDE_SECRT is not set/, side: here },
    },
    {
      title: "A variable that is empty",
      settings: withQuayside({ clientSecret: { env: "EMPTY" } }),
      plant: () => (process.env.EMPTY = ""),
      find: check,
      says: { cause: /EMPTY is\s+empty/, side: here },
    },
    {
      title: "A secret's file that is not mounted",
      settings: withQuayside({ clientSecret: { file: "/run/secrets/quayside-not-there" } }),
      find: check,
      says: { cause: /quayside-not-there is not\s+there/, side: /mounted/ },
    },
    {
      title: "No sealing keys",
      plant: () => delete process.env.TENONSAW_KEYS,
      find: check,
      says: { cause: /TENONSAW_KEYS is not\s+set/, side: /tenonsaw keys/ },
    },
    {
      title: "A password in place of a sealing key",
      plant: () => (process.env.TENONSAW_KEYS = "c2hvcnQtc2VjcmV0"),
      find: check,
      says: { cause: /sealing keys/, received: /key 1: 12 bytes/, side: /tenonsaw keys/ },
    },
  ],
  "The settings file": [
    {
      title: "A member that stands twice",
      settings:
        '{\n  "origin": "http://localhost:5173",\n  "providers": {},\n  "origin": "https://ferrywell.example"\n}',
      find: check,
      says: { cause: /origin: stands here twice/, received: /tenonsaw\.config\.json:4:3/, side: here },
    },
    {
      title: "Two names misspelt",
      settings: {
        orgin: origin,
        origin,
        providers: { quayside: { ...good.providers.quayside, clientID: "x" } },
      },
      find: check,
      says: {
        cause: /orgin: unknown setting, did you mean "origin"/,
        received: /clientID: unknown\s+setting, did you mean "clientId"/,
        side: here,
      },
    },
    {
      title: "A field of the profile that is misspelt",
      settings: withQuayside({ profile: { nmae: "/nickname" } }),
      find: check,
      says: { cause: /profile\.nmae: unknown setting, did you mean\s+"name"/, side: here },
    },
    {
      title: "A client ID whose placeholder nobody has filled",
      settings: withQuayside({ clientId: "<your-client-id>" }),
      find: check,
      says: {
        cause: /clientId: must be the value itself/,
        received: /a\s+placeholder\s+that\s+nothing\s+has\s+filled/,
        side: here,
      },
    },
    {
      title: "A key that signs, and is not there",
      settings: withQuayside({ clientAuthentication: "private_key_jwt" }),
      find: check,
      says: { cause: /clientKeys: is missing, and private_key_jwt signs with it/, side: here },
    },
    {
      title: "A provider without metadata, and none by hand",
      settings: withQuayside({ discovery: "none" }),
      find: check,
      says: {
        cause: /metadata\.tokenEndpoint: is missing, and\s+nothing\s+is\s+discovered/,
        side: here,
      },
    },
    {
      title: "A comma that is missing",
      settings: '{\n  "origin": "http://localhost:3000"\n  "providers": {}\n}',
      find: check,
      says: { cause: /is not JSON: comma expected/, received: /tenonsaw\.config\.json:3:3/, side: here },
    },
    {
      title: "An origin with a slash at its end",
      settings: { ...good, origin: `${origin}/` },
      find: check,
      says: {
        cause: /origin: must be an origin as browsers spell it/,
        received: /and\s+is\s+"http/,
        side: here,
      },
    },
    {
      title: "An idle limit beyond the session's end",
      settings: { ...good, sessionLifetimeSeconds: 3600, sessionIdleSeconds: 86_400 },
      find: check,
      says: {
        cause: /sessionIdleSeconds/,
        received: /and\s+is\s+86400/,
        expected: /at\s+most\s+sessionLifetimeSeconds,\s+which\s+is\s+3600/,
        side: here,
      },
    },
    {
      title: "A page for what went wrong that is a sign-in route",
      settings: { ...good, pages: { failed: "/sign-in/to/quayside" } },
      find: check,
      says: {
        cause: /pages\.failed/,
        received: /is\s+below\s+basePath,\s+\/sign-in/,
        expected: /must\s+be\s+a\s+page\s+of\s+the\s+app's\s+own/,
        side: here,
      },
    },
    {
      title: "A language by its name",
      settings: { ...good, texts: { german: { signIn: "Anmelden" } } },
      find: check,
      says: {
        cause: /texts\.german/,
        expected: /must\s+be\s+a\s+language\s+such\s+as\s+de\s+or\s+pt-BR/,
        side: here,
      },
    },
    {
      title: "An origin without TLS that others can reach",
      settings: { ...good, origin: "http://ferrywell.example" },
      find: check,
      says: { cause: /origin: must be an https origin/, side: here },
    },
    {
      title: "A scope without openid",
      settings: withQuayside({ scope: "profile tides.read" }),
      find: check,
      says: {
        cause: /providers\.quayside\.scope: must contain openid, with spaces between scopes/,
        side: here,
      },
    },
    {
      title: "A deviation that is switched off by hand",
      settings: withQuayside({ deviations: { noIdToken: false } }),
      find: check,
      says: { cause: /deviations\.noIdToken: must be true, and is\s+false/, side: here },
    },
    {
      title: "An API of a provider that is not there",
      settings: { ...good, apis: { tidebook: { provider: "quaside", origin: practice.tidebook } } },
      find: check,
      says: { cause: /apis\.tidebook\.provider: must be one of the providers: quayside/, side: here },
    },
    {
      title: "A secret in the file, in production",
      settings: {
        providers: { quayside: { ...good.providers.quayside, clientSecret: "hush" } },
        environments: { live: { production: true, origin: "https://ferrywell.example" } },
      },
      find: check,
      says: {
        cause: /clientSecret: is a literal secret/,
        received: /tenonsaw\.config\.json:\d+:\d+/,
        side: here,
      },
    },
    {
      title: "`development` left on in production",
      settings: {
        ...good,
        development: true,
        environments: { live: { production: true, origin: "https://ferrywell.example" } },
      },
      find: check,
      says: { cause: /development: must not be on in production/, side: here },
    },
    {
      title: "A variable that chooses an environment which is not there",
      settings: { ...good, environments: { sandbox: {}, live: {} } },
      plant: () => (process.env.TENONSAW_ENV = "prod"),
      find: check,
      says: {
        cause: /environment variable TENONSAW_ENV is "prod"/,
        expected: /there are\s+sandbox, live/,
        side: here,
      },
    },
  ],
  "The way back": [
    {
      title: "A callback in a frame",
      ...comingBack({ code: "c" }, () => ({ "sec-fetch-dest": "iframe" })),
      says: { cause: /came back in a frame/, received: /no sign-in cookie/, side: here },
    },
    {
      title: "A callback in another app's browser",
      ...comingBack({ code: "c" }, () => ({})),
      says: { cause: /No cookie at all came/, side: here },
    },
    {
      title: "A cookie that was deleted, or never taken",
      ...comingBack({ code: "c" }, () => ({ cookie: "theme=dark" })),
      says: { cause: /Other cookies came/, side: here },
    },
    {
      title: "Begun at localhost, ended at 127.0.0.1",
      find: () =>
        app(async (place) => {
          const other = origin.replace("localhost", "127.0.0.1");
          const answer = await place.open(`${other}/sign-in/to/quayside`, {
            headers: { host: new URL(other).host },
          });
          const state = new URL(answer.headers.get("location")).searchParams.get("state");
          await place.open(`/sign-in/from/quayside?state=${state}&code=c`, {
            headers: { host: new URL(origin).host },
          });
        }),
      says: {
        cause: /cookie did not|began at another host|did not send back|No cookie/,
        received: /localhost|127/,
        side: here,
      },
    },
    {
      title: "A restart in between, with a store that forgets",
      find: async () => {
        let begun;
        await app(async (place) => (begun = await begin(place)));
        return app((other) => other.open(begun.back({ code: "c" }), { headers: { cookie: begun.cookie } }));
      },
      says: {
        cause: /began before this process did/,
        received: /fits no attempt/,
        side: /createMemoryStore forgets/,
      },
    },
    {
      title: "A bookmark of the callback",
      find: () => app((place) => place.open("/sign-in/from/quayside")),
      says: { cause: /opened without an answer/, side: here },
    },
    {
      title: "An answer that somebody else began",
      find: () =>
        app(async (place) => {
          const [mine, theirs] = [await begin(place), await begin(place)];
          await place.open(theirs.back({ code: "c" }), { headers: { cookie: mine.cookie } });
        }),
      says: { cause: /begun in another browser/, side: here },
    },
    {
      title: "A scope that the provider refuses",
      ...comingBack({ error: "invalid_scope", error_description: "tides.read is not for you" }, withCookie),
      says: {
        cause: /provider refuses the scope/,
        received: /tides\.read is not for you/,
        expected: /scope is openid profile/,
        side: here,
      },
    },
    {
      title: "A request that the provider does not understand",
      ...comingBack({ error: "invalid_request", error_description: "audience is missing" }, withCookie),
      says: {
        cause: /does not understand the request/,
        received: /audience is missing/,
        side: /authorizationParameters/,
      },
    },
    {
      title: "A code that was redeemed before",
      ...comingBack({ code: "spent" }, withCookie),
      says: { cause: /does not accept the code/, received: /invalid_grant/, side: here },
    },
    {
      title: "A proxy that takes the beginning off every path",
      find: () =>
        app(
          async ({ signIn }) => {
            const request = new Request(`${origin}/sign-in?returnTo=/tides`, {
              headers: { accept: "text/html" },
            });
            await signIn.protect(() => new Response(""))(request);
          },
          { basePath: "/club/sign-in" },
        ),
      says: { cause: /takes the beginning off its paths/, received: /"\/sign-in"/, side: here },
    },
    {
      title: "Other sealing keys than those it was begun with",
      find: async () => {
        const store = createMemoryStore();
        let begun;
        await app(async (place) => (begun = await begin(place)), { store });
        process.env.TENONSAW_KEYS = Buffer.alloc(32, 2).toString("base64url");
        return app((place) => place.open(begun.back({ code: "c" }), { headers: { cookie: begun.cookie } }), {
          store,
        });
      },
      says: { cause: /seal-key-unknown/, received: /key ID/, side: here },
    },
  ],
  "What the provider sends": [
    {
      title: "An ID token of another sign-in",
      ...playing("nonce-wrong"),
      says: { cause: /belongs to another sign-in/, received: /fingerprint/, side: here },
    },
    {
      title: "An ID token for another app",
      ...playing("audience-wrong"),
      says: { cause: /audience/, received: /Received/, side: here },
    },
    {
      title: "An ID token that has expired",
      ...playing("id-token-expired"),
      says: { cause: /has expired/, received: /exp/, side: /clock/ },
    },
    {
      title: "A signature that does not fit",
      ...playing("signature-altered"),
      says: { cause: /signature does not fit/i, side: here },
    },
    {
      title: "A key that was never published",
      ...playing("key-unknown"),
      says: { cause: /No published key fits/, received: /key ID/, side: here },
    },
  ],
  "Tokens and calls": [
    {
      title: "A scope that is missing",
      settings: withQuayside({ scope: "openid profile" }),
      find: () => trySignIn("quayside", "Maren", ["--call", `${practice.tidebook}/tides/today`]),
      says: {
        cause: /does not allow this/,
        expected: /it takes tides\.read/,
        received: /allows +openid profile/,
        side: here,
      },
    },
    {
      title: "A person of another tenant",
      settings: { origin, providers: { harbour } },
      find: () => trySignIn("harbour", "Zoë"),
      says: {
        cause: /provider\.tenant-refused/,
        received: /sailing-club/,
        expected: /rowing-club/,
        side: here,
      },
    },
    {
      title: "A token for another audience",
      find: async () => explain(await foreignToken(), "--settings", settingsFile),
      says: {
        cause: /identity\.audience-mismatch/,
        received: /Received\s+"ferrywell-staging"/,
        expected: /expected "ferrywell"/,
        side: here,
      },
    },
    {
      title: "An API that fails",
      find: () =>
        app(
          async (place) => {
            odd.set("/tides", [503, { "retry-after": "60" }, ""]);
            const cookie = await signInAs(place);
            const session = await place.signIn.session(new Request(origin, { headers: { cookie } }));
            await session.fetch("tides", "/tides");
          },
          { apis: { tides: { provider: "quayside", origin: oddOrigin } } },
        ),
      says: {
        cause: /An API is out of order/,
        received: /status 503 from tides, retry-after "60"/,
        side: here,
      },
    },
  ],
  "Connected accounts": connectedAccounts,
  "The app's own code": [
    {
      title: "An error of the app's own",
      find: () =>
        app(({ signIn }) =>
          signIn.explain(new TypeError("tide is undefined"), new Request(`${origin}/tides?day=2`)),
        ),
      says: {
        cause: /The app threw an error of its own/,
        received: /TypeError: tide is undefined/,
        side: here,
      },
    },
    {
      title: "A handler that returns nothing",
      ...handling(() => undefined),
      says: { cause: /no Response/, received: /nothing/, side: /gives back only what `return` says/ },
    },
    {
      title: "A handler that returns data",
      ...handling(() => ({ tides: [] })),
      says: { cause: /no Response/, received: /"Object"/, side: /Response\.json\(value\)/ },
    },
    {
      title: "An API's answer handed on as it came",
      ...handling((session) => session.fetch("tides", "/tides")),
      says: {
        cause: /another server's answer as it came/,
        received: /an answer of fetch/,
        side: /passOn\(answer\)/,
      },
    },
    {
      title: "An answer that nobody waited for",
      ...handling((session) => passOn(session.fetch("tides", "/tides"))),
      says: { cause: /no Response/, received: /"Promise"/, side: /Put `await` before it/ },
    },
    {
      title: "An answer that was read before it was passed on",
      ...handling(async (session) => {
        const answer = await session.fetch("tides", "/tides");
        await answer.text();
        return passOn(answer);
      }),
      says: { cause: /no Response/, received: /without its body/, side: /answer\.clone\(\)/ },
    },
    {
      title: "A call without the API's name",
      ...handling((session) => session.fetch("/tides")),
      says: {
        cause: /An address stands where the API's name belongs/,
        received: /"\/tides"/,
        expected: /APIs in the settings: tides/,
        side: here,
      },
    },
    {
      title: "A call without a path",
      ...handling((session) => session.fetch("tides")),
      says: { cause: /A call of an API has no path/, received: /nothing/, side: /fetch\(name, path\)/ },
    },
    {
      title: "A body that nobody has made text of",
      ...handling((session) => session.fetch("tides", "/tides", { method: "POST", body: { boat: "Heron" } })),
      says: {
        cause: /an object that nobody has made text of/,
        received: /an object/,
        side: /JSON\.stringify\(body\)/,
      },
    },
    {
      title: "A body in a member that fetch has not",
      ...handling((session) => session.fetch("tides", "/tides", { method: "POST", json: { boat: "Heron" } })),
      says: {
        cause: /in a member that `fetch` has not/,
        received: /the member "json"/,
        side: /JSON\.stringify/,
      },
    },
    {
      title: "A call with an Authorization of its own",
      ...handling((session) =>
        session.fetch("tides", "/tides", { headers: { authorization: "Bearer own" } }),
      ),
      says: { cause: /brings an Authorization of its own/, side: /Leave the header out/ },
    },
    {
      title: "A form that a script sends as JSON",
      find: () =>
        app(async (place) => {
          const cookie = await signInAs(place);
          const { headers, method } = from(origin);
          const json = { ...headers, cookie, "content-type": "application/json" };
          await place.open("/sign-in/out", { method, headers: json, body: '{"everywhere":true}' });
        }),
      says: {
        cause: /sent in another form/,
        received: /"application\/json"/,
        expected: /application\/x-www-form-urlencoded/,
        side: /new URLSearchParams/,
      },
    },
    {
      title: "A link to sign in that names its way back otherwise",
      find: () => app(({ open }) => open("/sign-in?next=/tides"), { development: true }),
      says: { cause: /asks for what there is not/, received: /"next"/, expected: /"returnTo"/, side: here },
    },
    {
      title: "A call with a body, and no method",
      ...handling((session) => session.fetch("tides", "/tides", { body: '{"boat":"Heron"}' })),
      says: { cause: /a method that takes none/, received: /GET with a body/, side: /Say the method/ },
    },
    {
      title: "A form on a page that is open at another address",
      find: () => app(({ open }) => open("/sign-in/out", from(origin.replace("localhost", "127.0.0.1")))),
      says: {
        cause: /open at another address than `origin` says/,
        received: /Origin http:\/\/127\.0\.0\.1:/,
        expected: /Origin http:\/\/localhost:/,
        side: /Open it at `origin`, or set `origin`/,
      },
    },
    {
      title: "A form on a page of the development server",
      find: () => app(({ open }) => open("/sign-in/out", from("http://localhost:5174", origin))),
      says: {
        cause: /A page of another port or subdomain/,
        received: /Origin http:\/\/localhost:5174/,
        side: /the proxy of a development server/,
      },
    },
    {
      title: "An address of the relay, opened by hand",
      find: () =>
        app(({ open }) => open("/sign-in/relay/tides/tides", { headers: { "sec-fetch-site": "none" } })),
      says: {
        cause: /An address was opened that only this app's own pages may ask/,
        received: /Sec-Fetch-Site none/,
        side: /or a script call it/,
      },
    },
    {
      title: "A number for a person's ID",
      find: () => app((place) => signInAs(place), { welcome: () => ({ personId: 7 }) }),
      says: { cause: /named a person by what is no ID/, received: /Received: 7/, side: /String\(id\)/ },
    },
    {
      title: "A page that needs a provider which is not there",
      find: () =>
        thrown(async (settings) =>
          (await createSignIn(settings)).protect(() => undefined, { provider: "harbor" }),
        ),
      says: {
        cause: /The settings cannot be used/,
        received: /needs\.provider: must be one of the providers: quayside/,
        side: here,
      },
    },
    {
      title: "An adapter made before there is anything to adapt",
      find: () => thrown((settings) => nodeListener(createSignIn(settings), () => new Response(""))),
      says: {
        cause: /handed what it cannot use/,
        received: /"Promise"/,
        expected: /what createSignIn or createConnections has made/,
        side: /Put `await` before/,
      },
    },
    {
      title: "Middleware that was called, in place of handing it over",
      find: () => thrown(async (settings) => forExpress(await createSignIn(settings)).middleware()),
      says: {
        cause: /was called in its place/,
        received: /nothing/,
        expected: /app\.use\(middleware\)/,
        side: /Leave the brackets out/,
      },
    },
    {
      title: "An adapter that was not put into the app",
      find: () => {
        let now = 0;
        const platform = createPlatform({ monotonic: () => now, print: () => undefined });
        const visit = ({ signIn }) => {
          // The sign-in routes are answered by the framework: that there are none.
          for (now of [0, 5])
            signIn.ask(new Request(`${origin}/tides`, { headers: { accept: "text/html" } }));
        };
        return app(visit, { development: true, platform });
      },
      says: {
        cause: /no request has come to the sign-in routes/,
        received: /sent twice/,
        expected: /handed to signIn\.handle/,
        side: /Put the adapter into the app/,
      },
    },
    {
      title: "JSON of an answer that nobody has read",
      async find() {
        let output = "";
        const page = handling(async (session) => {
          output = JSON.stringify({ today: await session.fetch("tides", "/tides") });
          return new Response(output);
        });
        await page.find();
        return { shown: "curl http://localhost:5173/tides", output };
      },
      says: { cause: /not what is in it/, side: /await answer\.json\(\)/ },
    },
    {
      title: "A function of the app that waits for ever",
      find: () =>
        app((place) => signInAs(place), { welcome: () => new Promise(() => undefined), platform: hurried }),
      says: {
        cause: /answers what nobody can use/,
        received: /`welcome` has not answered for 30 s/,
        side: /a database that does not answer/,
      },
    },
    {
      title: "A profile that is looked up first",
      find: () =>
        app((place) => signInAs(place), withQuayside({ profile: async ({ sub }) => ({ subject: sub }) })),
      says: {
        cause: /answers what nobody can use/,
        received: /`profile` answered a promise/,
        expected: /an object, at once/,
        side: /before it is asked/,
      },
    },
    {
      title: "A slash in a name that a page calls for",
      find: () =>
        app(({ open }) => open("/sign-in/relay/tides/boats/Heron%2FEight", { headers: ownPage }), {
          apis: { tides: { provider: "quayside", origin: practice.tidebook, relay: ["/boats/*"] } },
        }),
      says: {
        cause: /Pages may not call this/,
        received: /Heron%2FEight/,
        side: /not every server reads in the same way/,
      },
    },
    {
      title: "A page at another site, for whom the app welcomes",
      find: () =>
        app((place) => signInAs(place), { welcome: () => ({ page: "https://club.example/boats" }) }),
      says: {
        cause: /answers what nobody can use/,
        received: /the page "https:\/\/club\.example\/boats"/,
        expected: /\{ page \}, a path of this app/,
        side: here,
      },
    },
    {
      title: "All that is known of a person, in place of their ID",
      find: () =>
        thrown(async (settings) => (await createSignIn(settings)).forget({ id: "member-7", name: "Maren" })),
      says: {
        cause: /asked for by all that is known of them/,
        received: /an object with "id", "name"/,
        expected: /the person's ID/,
        side: /session\.person\.id/,
      },
    },
    {
      title: "Seconds that are none",
      ...handling((session) => {
        if (session.provedWithin(undefined)) return new Response("");
      }),
      says: {
        cause: /handed what it cannot use/,
        received: /nothing/,
        expected: /seconds, 0 or more/,
        side: /Hand over what is expected/,
      },
    },
    {
      title: "A standard's own name, in a request of ours",
      find: () =>
        thrown(async () => beginSignIn(await openProvider(quaysideInCode()), { redirectUri, max_age: 60 })),
      says: {
        cause: /asked for by a name that there is not/,
        received: /"max_age"/,
        expected: /maxAge/,
        side: /Correct the name/,
      },
    },
    {
      title: "An outcome in the place of its grant",
      find: () =>
        thrown(async () => {
          const outcome = { kind: "granted", grant: { accessToken: "at" } };
          await fetchWithGrant(await openProvider(quaysideInCode()), outcome, `${practice.tidebook}/tides`);
        }),
      says: {
        cause: /What was handed over is no grant/,
        received: /an object with "kind", "grant"/,
        expected: /the grant of an outcome/,
        side: /Hand over the outcome's `grant`/,
      },
    },
    {
      title: "A certificate by its path",
      find: () =>
        thrown(() => createCertifiedFetch({ certificate: "/run/client.pem", key: "/run/client.key" })),
      says: {
        cause: /handed what it cannot use/,
        received: /a text of 15 characters/,
        expected: /the text of a file and not its path/,
        side: /Hand over what is expected/,
      },
    },
    {
      title: "A clock by another name",
      find: () =>
        thrown((settings) => createSignIn({ ...settings, platform: createPlatform({ clock: () => 0 }) })),
      says: {
        cause: /platform\.clock: is no part of a platform/,
        expected: /it has now, monotonic/,
        side: here,
      },
    },
    {
      title: "A proxy that writes another header",
      find: () =>
        app(
          ({ open }) =>
            open("/sign-in", { headers: { host: "club.example", "x-forwarded-for": "192.0.2.9" } }),
          { proxies: { header: "forwarded", hops: 1 } },
        ),
      says: {
        cause: /at another address than the settings say/,
        received: /nothing that counts in Forwarded: it has the header X-Forwarded-For/,
        expected: /Expected: http:\/\/localhost/,
        side: /Correct `proxies`/,
      },
    },
    {
      title: "All that readSettingsFile gives, in place of the settings in it",
      find: () =>
        thrown((settings) => createSignIn({ settings, environments: [], isProduction: false, warnings: [] })),
      says: { cause: /at settings: holds the settings that readSettingsFile has read/, side: here },
    },
  ],
  "Opened by a host": [
    {
      title: "A host that nobody has declared",
      find: () => launched("launch-host-unknown"),
      says: {
        cause: /host that nobody has declared/,
        received: /records\.elsewhere\.example/,
        expected: /one of the hosts in the settings: http/,
        side: /discovery: \"smart\"/,
      },
    },
    {
      title: "A host that writes its address with a slash",
      find: () => launched("launch-host-with-slash"),
      says: {
        cause: /differs by the slash/,
        received: /riverside\/fhir\/\"/,
        expected: /riverside\/fhir\b/,
        side: /with the slash or without/,
      },
    },
    {
      title: "The launch URL, opened by hand",
      find: () => launched("launch-host-missing"),
      says: {
        cause: /without the host's address/,
        received: /no iss/,
        expected: /one of the hosts/,
        side: /Open this app from the host/,
      },
    },
    {
      title: "Two hosts in one launch",
      find: () => launched("launch-host-twice"),
      says: {
        cause: /launch cannot be read/,
        received: /iss 2 times/,
        expected: /iss once/,
        side: /launch URL that is registered/,
      },
    },
    {
      title: "A launch without its value",
      find: () => launched("launch-value-empty"),
      says: {
        cause: /launch cannot be read/,
        received: /launch of 0 characters/,
        expected: /launch of 1 to 2048/,
        side: /launch URL that is registered/,
      },
    },
    {
      title: "Two values in one launch",
      find: () => launched("launch-value-twice"),
      says: {
        cause: /launch cannot be read/,
        received: /launch 2 times/,
        expected: /launch once/,
        side: /launch URL that is registered/,
      },
    },
    {
      title: "A launch value that has expired",
      find: () => launched("launch-value-expired"),
      says: {
        cause: /does not take the launch/,
        received: /launch value is not valid any more/,
        side: /open the app from the host once more/,
      },
    },
    {
      title: "A launch value of another app",
      find: () => launched("launch-value-of-another-app"),
      says: {
        cause: /does not take the launch/,
        received: /This launch was for another app/,
        side: /open the app from the host once more/,
      },
    },
    {
      title: "A host that does not know itself in aud",
      find: () => launched("launch-audience-refused"),
      says: {
        cause: /does not take the launch/,
        received: /aud is not this FHIR server/,
        side: /open the app from the host once more/,
      },
    },
    {
      title: "A base URL without a configuration",
      find: () => launched("configuration-missing"),
      says: {
        cause: /publishes no SMART configuration/,
        received: /status 404 from/,
        expected: /smart-configuration|200|JSON/,
        side: /Change/,
      },
    },
    {
      title: "A host whose configuration fails",
      find: () => launched("configuration-500"),
      says: { cause: /busy or out of order/, received: /status 500/, side: /Change/ },
    },
    {
      title: "A page for people in place of the configuration",
      find: () => launched("configuration-page"),
      says: {
        cause: /A web page came in place of JSON/,
        received: /text\/html/,
        expected: /JSON/,
        side: /Change/,
      },
    },
    {
      title: "A host that does not speak PKCE",
      find: () => launched("configuration-without-pkce"),
      says: { cause: /metadata/, received: /code_challenge_methods_supported has nothing/, side: /Change/ },
    },
    {
      title: "A host that speaks PKCE without a hash",
      find: () => launched("configuration-with-plain-only"),
      says: { cause: /metadata/, received: /\"plain\" and not S256/, side: /Change/ },
    },
    {
      title: "A configuration without capabilities",
      find: () => launched("configuration-without-capabilities"),
      says: { cause: /metadata/, received: /capabilities is not a list/, side: /Change/ },
    },
    {
      title: "A host that opens no apps",
      find: () => launched("configuration-without-launch"),
      says: {
        cause: /does not say that it can do what this app needs/,
        received: /lists launch-standalone/,
        expected: /launch-ehr among its capabilities/,
        side: /list it under `capabilities`/,
      },
    },
    {
      title: "A configuration without a token endpoint",
      find: () => launched("configuration-without-token-endpoint"),
      says: { cause: /metadata/, received: /token_endpoint/, side: /Change/ },
    },
    {
      title: "A host with ID tokens and no keys",
      find: () => launched("configuration-without-keys"),
      says: { cause: /metadata/, received: /jwks_uri is missing/, side: /Change/ },
    },
    {
      title: "A host that names somebody else's issuer",
      find: () => launched("configuration-issuer-elsewhere"),
      says: {
        cause: /issuer at another origin/,
        received: /id\.elsewhere\.example/,
        expected: /an issuer at http/,
        side: /expectedIssuer/,
      },
    },
    {
      title: "Access to a patient's data, and no patient",
      find: () => launched("context-patient-missing"),
      says: {
        cause: /does not say whose/,
        received: /a token answer with encounter/,
        expected: /patient/,
        side: /Open the app from a patient's record/,
      },
    },
    {
      title: "A patient that is a number",
      find: () => launched("context-patient-number"),
      says: {
        cause: /not what they have to be/,
        received: /patient is number/,
        expected: /has to be string/,
        side: /operators/,
      },
    },
    {
      title: "A patient that is null",
      find: () => launched("context-patient-null"),
      says: {
        cause: /not what they have to be/,
        received: /patient is null/,
        expected: /has to be string/,
        side: /operators/,
      },
    },
    {
      title: "A patient that is a path",
      find: () => launched("context-patient-path"),
      says: {
        cause: /not what they have to be/,
        received: /patient is not the ID of a resource/,
        side: /operators/,
      },
    },
    {
      title: "A visit that is a list",
      find: () => launched("context-encounter-list"),
      says: {
        cause: /not what they have to be/,
        received: /encounter is array/,
        expected: /has to be string/,
        side: /operators/,
      },
    },
    {
      title: "A banner by text",
      find: () => launched("context-banner-text"),
      says: {
        cause: /not what they have to be/,
        received: /need_patient_banner is string/,
        expected: /has to be boolean/,
        side: /operators/,
      },
    },
    {
      title: "Further records that are no list",
      find: () => launched("context-references-object"),
      says: {
        cause: /not what they have to be/,
        received: /fhirContext is object/,
        expected: /has to be array/,
        side: /operators/,
      },
    },
    {
      title: "A further record that refers to nothing",
      find: () => launched("context-reference-empty"),
      says: {
        cause: /not what they have to be/,
        received: /fhirContext\.0 has neither reference/,
        side: /operators/,
      },
    },
    {
      title: "A further record that is another patient",
      find: () => launched("context-reference-patient"),
      says: {
        cause: /not what they have to be/,
        received: /names a patient or visit, which has a member of its own/,
        side: /operators/,
      },
    },
    {
      title: "More context than anybody reads",
      find: () => launched("context-too-long"),
      says: {
        cause: /not what they have to be/,
        received: /has \d+ characters/,
        expected: /at most 8192 are read/,
        side: /operators/,
      },
    },
    {
      title: "A person's record that is a number",
      find: () => launched("fhir-user-number"),
      says: { cause: /not what they have to be/, received: /a fhirUser that is number/, side: /operators/ },
    },
    {
      title: "A host that leaves the ID token out",
      find: () => launched("launch-id-token-missing"),
      says: { cause: /ID token/, received: /a token answer without one/, side: /Change/ },
    },
    {
      title: "A host that does not say of which type its token is",
      find: () => launched("launch-token-type-missing"),
      says: { cause: /token/, received: /token_type is missing/, side: /Answer as the standard says/ },
    },
    {
      title: "A style with rules in it",
      find: () => launched("style-hostile"),
      says: {
        cause: /style cannot be used/,
        received: /color_background is \"url/,
        expected: /has to be a colour/,
        side: /operators/,
      },
    },
    {
      title: "A style from elsewhere",
      find: () => launched("style-elsewhere"),
      says: {
        cause: /style is at an origin that nobody has declared/,
        received: /styles\.elsewhere\.example/,
        expected: /a style document at http/,
        side: /styleOrigins/,
      },
    },
    {
      title: "A style that is a web page",
      find: () => launched("style-page"),
      says: { cause: /style cannot be used/, received: /text\/html/, expected: /JSON/, side: /operators/ },
    },
    {
      title: "A launch that is opened twice",
      find: () => launched(undefined, { twice: true }),
      says: {
        cause: /was used already/,
        received: /has been here before/,
        side: /Open this app from the host once more/,
      },
    },
    {
      title: "A tenant that is not admitted",
      find: () =>
        launched(undefined, {
          client: {
            issuer: practice.clinic.replace("riverside", "{house}"),
            launch: { tenants: { placeholder: "{house}", admitted: ["mill-lane"] } },
          },
        }),
      says: {
        cause: /tenant that is not admitted/,
        received: /tenant "riverside"/,
        side: /launch\.tenants\.admitted/,
      },
    },
  ],
  "An API behind a guard": [
    {
      title: "A client that signs, and whose secret is not found",
      find: () =>
        api(
          () =>
            new Request(practice.tidebook, {
              headers: {
                authorization: `OAuth oauth_consumer_key="archive", oauth_signature_method="HMAC-SHA256", oauth_timestamp="${Math.floor(Date.now() / 1000)}", oauth_nonce="n", oauth_signature="AAAA"`,
              },
            }),
          "any-caller",
          { signedRequests: { credentialsOf: () => ({ subject: "rower-7" }) } },
        ),
      says: {
        cause: /method or version that is not taken/,
        received: /HMAC-SHA256 by the client "archive", which has no secret/,
        side: /credentialsOf` answer with it/,
      },
    },
    {
      title: "A claim that is looked up before it is judged",
      find: () => api(calling({}), { claims: { "/sub": async () => true } }),
      says: {
        cause: /answers what nobody can use/,
        received: /the claim "\/sub" answered a promise/,
        expected: /true or false, at once/,
        side: /before it is asked/,
      },
    },
    {
      title: "A token for another API",
      find: () => api(calling({ fault: "other-audience" })),
      says: {
        cause: /is for another API, which is known here/,
        received: /gauges\.example", which is the API gauges/,
        expected: /Expected: "http/,
        side: here,
      },
    },
    {
      title: "A token of another environment",
      find: () => api(calling({ fault: "other-environment" })),
      says: {
        cause: /is from another environment/,
        received: /which is the production environment/,
        expected: /Expected: "http/,
        side: here,
      },
    },
    {
      title: "An ID token in place of the access token",
      find: () => api(calling({ fault: "id-token" })),
      says: {
        cause: /is an ID token/,
        received: /JWT", with nonce/,
        expected: /at\+jwt/,
        side: /Send the access token/,
      },
    },
    {
      title: "A token of an older format",
      find: () =>
        api(calling({ claims: { format: 1 } }), undefined, {
          claims: { format: 2 },
          formats: { "the format of last year": { claims: { format: 1 }, refused: true } },
        }),
      says: {
        cause: /has another format/,
        received: /the format of last year/,
        expected: /a token with format 2/,
        side: there,
      },
    },
    {
      title: "A scope that was never granted",
      find: () => api(calling({ scope: "tides.read" }), { scope: "slots.write" }),
      says: {
        cause: /does not allow this/,
        received: /scopes "tides\.read"; lacking "slots\.write"/,
        expected: /scopes "slots\.write"/,
        side: here,
      },
    },
    {
      title: "No consent: the person allowed nothing of it",
      find: () => api(calling({ scope: "openid" }), { anyScope: "tides.read slots.write" }),
      says: {
        cause: /does not allow this/,
        received: /scopes "openid"/,
        expected: /one of the scopes "tides\.read", "slots\.write"/,
        side: /have the person consent/,
      },
    },
    {
      title: "A role that sits in another claim",
      find: () =>
        api(calling({ claims: { roles: undefined, club: { roles: ["harbour-master"] } } }), {
          role: "harbour-master",
        }),
      says: {
        cause: /has no roles or permissions at the place/,
        received: /roles none/,
        expected: /roles "harbour-master"/,
        side: /Point `roles`/,
      },
    },
    {
      title: "A token that was cut on its way",
      find: () => api(calling({ fault: "cut" })),
      says: { cause: /was cut at its end/, received: /signature of \d+ bytes/, side: /Send the whole token/ },
    },
    {
      title: "An expired token",
      find: () => api(calling({ fault: "expired" })),
      says: { cause: /has expired/, received: /exp \d+, \d+ s ago/, expected: /exp after/, side: /renew it/ },
    },
    {
      title: "A clock that is behind the issuer's",
      plant: () => (clock.ahead = 600),
      find: () => api(calling({})),
      says: {
        cause: /by a clock that differs from the issuer's/,
        received: /valid from \d+, \d+ s from now/,
        side: /6\d\d s behind|5\d\d s behind/,
      },
    },
    {
      title: "A key that is not published, or not yet",
      find: () => api(calling({ fault: "key-unpublished" })),
      says: {
        cause: /with a key that the issuer does not publish/,
        received: /key ID "a-key-nobody-published"/,
        expected: /one of the published key IDs/,
        side: there,
      },
    },
    {
      title: "A bound token that was sent as a bearer token",
      find: () => api(calling({ fault: "bound-to-a-key" })),
      says: {
        cause: /was sent as if anybody could use it/,
        received: /the scheme Bearer/,
        expected: /DPoP/,
        side: /with a proof/,
      },
    },
    {
      title: "An opaque token where signed ones are taken",
      find: () => api(calling({ opaque: true })),
      says: {
        cause: /is opaque, and this API takes signed ones/,
        received: /\d+ characters in 1 part/,
        side: /Set `introspection`/,
      },
    },
    {
      title: "A cookie in place of a token",
      find: () => api(() => new Request(`${practice.tidebook}/tides`, { headers: { cookie: "session=1" } })),
      says: { cause: /brings a cookie in place of an access token/, side: /the relay, or `session\.fetch`/ },
    },
    {
      title: "The wrong service at the API's port",
      settings: {
        ...good,
        apis: { tidebook: { provider: "quayside", origin: practice.harbour, sample: "/" } },
      },
      find: () => checkApi(),
      says: {
        cause: /a web page, and not an API/,
        received: /status 200, text\/html/,
        side: /the port; another service may have it/,
      },
    },
    {
      title: "The issuer's slash in the guard's settings",
      find: async () => {
        try {
          await openGuard({ issuer: `${practice.issuer}/`, audience: practice.tidebook });
          return { shown: "node tidebook.mjs", output: "" };
        } catch (error) {
          return { shown: "node tidebook.mjs", output: error.message };
        }
      },
      says: {
        cause: /names the issuer with another end/,
        received: /received: "http/,
        expected: /expected: "http/,
        side: /slash at its end counts/,
      },
    },
  ],
  "Pasted into explain": [
    {
      title: "A token that was cut",
      ...pasted(async () => (await signed({ ...claims, exp: now() + 60 })).slice(0, -6)),
      says: {
        cause: /was cut or changed/,
        received: /signature has \d+ bytes/,
        expected: /one of\s+ES256 has 64/,
      },
    },
    {
      title: "A token with its quotes",
      ...pasted(async () => `"${await signed({ ...claims, exp: now() + 60 })}"`),
      says: { cause: /Taken off what was pasted: quotes/, side: /that is the\s+mistake/ },
    },
    {
      title: "A token that nobody signed",
      ...pasted(() => `${unsigned({ alg: "none" }, { ...claims, exp: now() + 60 })}.`),
      says: { cause: /"none" is not\s+accepted/, received: /no signature/ },
    },
    {
      title: "A token that is over",
      ...pasted(() => signed({ ...claims, exp: now() - 600 })),
      says: { cause: /It expired 10 minutes ago/ },
    },
    {
      title: "A token that only its issuer can read",
      ...pasted(() => "Bearer 3f9c1b7a5e2d4c6b8a90"),
      says: { cause: /introspection/, side: /`resource`\s+or `audience`/ },
    },
    {
      title: "Two addresses that differ in a letter",
      ...pasted(() => "http://localhost/Back http://localhost/back"),
      says: { cause: /upper and lower case count/, received: /second/, expected: /first/ },
    },
    {
      title: "An answer without state",
      ...pasted(() => "https://ferrywell.example/back?code=abc"),
      says: { cause: /There is no state/ },
    },
    {
      title: "A challenge for more scope",
      ...pasted(() => 'WWW-Authenticate: Bearer error="insufficient_scope", scope="tides.read"'),
      says: { cause: /does not allow this/, side: /Add the\s+scope to `scope`/ },
    },
    {
      title: "A token answer without its type",
      ...pasted(() => '{"access_token":"abc","expires_in":60}'),
      says: { cause: /token_type is missing/, side: /tokenTypeAbsent/ },
    },
    {
      title: "A misspelt code",
      ...pasted(() => "identity.nonce-mismach"),
      says: { cause: /Did you mean identity\.nonce-m/ },
    },
  ],
};

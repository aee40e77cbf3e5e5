// Where mistakes are planted: a settings file, the practice providers, an app in this process; and how they are found.
import { spawn } from "node:child_process";
import { createServer } from "node:http";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { createPlatform } from "tenonsaw";
import { openGuard } from "tenonsaw/guard";
import { createSignIn, describeReport } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";

const folder = mkdtempSync(join(tmpdir(), "tenonsaw-mistakes-"));
export const settingsFile = join(folder, "tenonsaw.config.json");
export const clock = { ahead: 0 };
export const practice = await startPractice({
  algorithm: "ES256",
  certificates: true,
  now: () => Date.now() / 1000 + clock.ahead,
});
export const origin = `http://localhost:${await freePort()}`;
export const redirectUri = `${origin}/sign-in/from/quayside`;
const harbourUri = `${origin}/sign-in/from/harbour`;

/** What is right, before something is made wrong. */
export const good = {
  origin,
  providers: {
    quayside: {
      issuer: practice.issuer,
      clientId: "ferrywell",
      clientSecret: { env: "QUAYSIDE_SECRET" },
      scope: "openid profile offline_access tides.read",
    },
  },
};
export const withQuayside = (changes) => ({
  ...good,
  providers: { quayside: { ...good.providers.quayside, ...changes } },
});
export const register = (uri) =>
  practice.register({
    ...defaultClient,
    redirectUris: [uri, harbourUri, redirectUri.replace("localhost", "127.0.0.1")].slice(
      0,
      uri === redirectUri ? 3 : 2,
    ),
  });

/** A server that is no provider: what it answers, by path. */
export const odd = new Map();
const oddServer = createServer((incoming, outgoing) => {
  const [status, headers, text] = odd.get(incoming.url) ?? [404, {}, "Not found"];
  outgoing.writeHead(status, headers).end(text);
});
await new Promise((resolve) => oddServer.listen(0, "localhost", resolve));
export const oddOrigin = `http://localhost:${oddServer.address().port}`;
export const metadataOf = (members) => [
  200,
  { "content-type": "application/json" },
  JSON.stringify({
    issuer: oddOrigin,
    authorization_endpoint: `${oddOrigin}/authorize`,
    token_endpoint: `${oddOrigin}/token`,
    jwks_uri: `${oddOrigin}/keys`,
    ...members,
  }),
];

/** Everything as it should be. */
export function reset() {
  register(redirectUri);
  practice.rehearse();
  clock.ahead = 0;
  odd.clear();
  odd.set("/.well-known/openid-configuration", metadataOf({}));
  for (const name of ["TENONSAW_ENV", "EMPTY", "HTTPS_PROXY", "https_proxy", "NODE_TLS_REJECT_UNAUTHORIZED"])
    delete process.env[name];
  process.env.QUAYSIDE_SECRET = defaultClient.clientSecret;
  process.env.TENONSAW_KEYS = Buffer.alloc(32, 1).toString("base64url");
}

export async function stop() {
  await practice.stop();
  oddServer.close();
  rmSync(folder, { recursive: true });
}

/** @param settings an object, or the text of a file */
export function write(settings) {
  writeFileSync(
    settingsFile,
    typeof settings === "string" ? settings : JSON.stringify(settings, undefined, 2),
  );
}

export const check = (...more) => tenonsaw(["check", "quayside", "--settings", settingsFile, ...more]);

export async function explain(pasted, ...more) {
  const { shown, output } = await tenonsaw(["explain", ...more], { input: pasted });
  return { shown: `${shown} < pasted.txt`, output: output.split("\n┌")[0] };
}

/** What an app with these settings says of a request: the lines of its log. */
export async function app(work, changes = {}) {
  const lines = [];
  const settings = {
    ...good,
    store: createMemoryStore(),
    platform: createPlatform({ print: () => undefined }),
    onProblem: (report) => lines.push(describeReport(report)),
    ...changes,
  };
  const signIn = await createSignIn(settings);
  const open = async (path, init) => {
    const request = new Request(path.startsWith("/") ? (settings.origin ?? origin) + path : path, init);
    return (await signIn.handle(request)) ?? new Response("", { status: 404 });
  };
  await work({ signIn, open, settings });
  return { shown: "node server.mjs", output: lines.join("\n") };
}

/** Begins a sign-in; returns what the browser has to come back with. */
export async function begin({ open }, query = "") {
  const answer = await open(`/sign-in/to/quayside${query}`);
  const state = new URL(answer.headers.get("location")).searchParams.get("state");
  const cookie = answer.headers.get("set-cookie").split(";")[0];
  return {
    state,
    cookie,
    back: (more) => `/sign-in/from/quayside?${new URLSearchParams({ state, iss: practice.issuer, ...more })}`,
  };
}

/** Signs in as somebody; returns the session's cookie. */
export async function signInAs(place, person = "Maren") {
  const answer = await place.open("/sign-in/to/quayside");
  const cookie = answer.headers.get("set-cookie").split(";")[0];
  const visitor = createVisitor();
  const page = await visitor.open(answer.headers.get("location")).then(() => visitor.press(person));
  const [, request] = /name="request" value="([^"]+)"/.exec(page.text);
  const body = new URLSearchParams({ request, decision: "allow" });
  const decided = await visitor.fetch(`${practice.issuer}/authorize/decision`, { method: "POST", body });
  const done = await place.open(decided.headers.get("location"), { headers: { cookie } });
  return done.headers
    .getSetCookie()
    .map((each) => each.split(";")[0])
    .join("; ");
}

/** What an app says that Boathouse Clinic opens, and something is wrong with it: the lines of its log. */
export function launched(rehearsal, { client = {}, twice = false, changes = {} } = {}) {
  return app(
    async ({ open }) => {
      practice.register({
        clientId: "rowers-health",
        clientSecret: "only-for-practice",
        title: "Rowers' health",
        redirectUris: [`${origin}/sign-in/from/boathouse`],
        postLogoutRedirectUris: [],
        launchUrl: `${origin}/sign-in/launch`,
      });
      practice.rehearse(rehearsal);
      const answer = await fetch(`${practice.ward}/openings?app=rowers-health`, { method: "POST" });
      const { url } = await answer.json();
      let cookie = "";
      const follow = async (first) => {
        for (let at = first; at !== undefined;) {
          const isHere = at.startsWith(origin);
          const step = isHere
            ? await open(at, { headers: { cookie } })
            : await fetch(at, { redirect: "manual" });
          cookie = step.headers.get("set-cookie")?.split(";")[0] ?? cookie;
          const next = step.headers.get("location");
          at = next === null ? undefined : new URL(next, at).href;
          if (at?.includes("launched=")) return;
        }
      };
      await follow(url);
      if (twice) await follow(url);
    },
    {
      providers: {
        boathouse: {
          title: "Boathouse Clinic",
          issuer: practice.clinic,
          discovery: "smart",
          clientId: "rowers-health",
          clientSecret: "only-for-practice",
          scope: "openid fhirUser patient/Patient.r patient/Observation.rs",
          ...client,
        },
      },
      ...changes,
    },
  );
}

/** What an API behind a guard says of a call: the lines of its log. */
export async function api(call, needs = { scope: "tides.read" }, changes = {}) {
  const lines = [];
  const guard = await openGuard({
    issuer: practice.issuer,
    audience: practice.tidebook,
    elsewhere: {
      "the production environment": "https://id.quayside.example",
      "the API gauges": "https://gauges.example",
    },
    platform: createPlatform({ print: () => undefined }),
    onProblem: (report) => lines.push(describeReport(report)),
    ...changes,
  });
  await guard.admit(await call(), needs).catch(() => undefined);
  return { shown: "node tidebook.mjs", output: lines.join("\n") };
}

/** A call with a token that the practice makes as wished for. */
export const calling = (wish) => async () =>
  new Request(`${practice.tidebook}/tides/today`, {
    headers: { authorization: `Bearer ${await practice.token(wish)}` },
  });

export const checkApi = (...more) =>
  tenonsaw(["check", "--api", "tidebook", "--settings", settingsFile, "--scope", "tides.read", ...more]);

export function tenonsaw(args, { input, onOutput } = {}) {
  const child = spawn(process.execPath, ["packages/tenonsaw/bin/tenonsaw.js", ...args], {
    env: { ...process.env, NO_COLOR: "1" },
  });
  child.stdin.end(input ?? "");
  let output = "";
  for (const stream of [child.stdout, child.stderr]) {
    stream.on("data", (chunk) => {
      output += chunk;
      onOutput?.(output);
    });
  }
  const shown = `tenonsaw ${args.join(" ").replace(` --settings ${settingsFile}`, "")}`;
  return new Promise((resolve) => child.on("close", () => resolve({ shown: tidy(shown), output })));
}

/** Signs in as somebody while `tenonsaw try` waits; what comes after the sign-in is shown. */
export async function trySignIn(provider, person, more = []) {
  let isOpened = false;
  const { shown, output } = await tenonsaw(["try", provider, "--settings", settingsFile, ...more], {
    onOutput(text) {
      const [, url] = /(http:\/\/localhost:\d+\/authorize\?\S+)[\s\S]*Waiting/.exec(text) ?? [];
      if (url === undefined || isOpened) return;
      isOpened = true;
      const visitor = createVisitor();
      void visitor
        .open(url)
        .then(() => visitor.press(person))
        .then(() => visitor.press("Yes, allow"));
    },
  });
  return { shown, output: output.slice(Math.max(0, output.search(/Signed in\.|Not signed in\./))) };
}

/** The part of an output that says what is wrong, with the ports of the demo in place of those of this run. */
export function tidy(output) {
  const ports = {
    [practice.issuer]: "http://localhost:4600",
    [practice.issuer.replace("http:", "https:")]: "https://localhost:4600",
    [practice.tidebook]: "http://localhost:4700",
    [practice.harbour]: "http://localhost:4800",
    [practice.secure.tidebook]: "https://localhost:4701",
    [oddOrigin]: "http://localhost:8080",
    [new URL(practice.clinic).origin]: "http://127.0.0.1:4608",
    [origin]: "http://localhost:5173",
    [origin.replace("http:", "https:")]: "https://localhost:5173",
    [origin.replace("localhost", "127.0.0.1")]: "http://127.0.0.1:5173",
  };
  let text = output.trim();
  for (const [from, to] of Object.entries(ports)) text = text.replaceAll(from, to);
  return text
    .replaceAll(settingsFile, "tenonsaw.config.json")
    .replaceAll(folder, "/run/secrets")
    .replaceAll(`localhost:${new URL(practice.secure.tidebook).port}`, "localhost:4701")
    .replaceAll(`localhost:${new URL(practice.issuer).port}`, "localhost:4600")
    .replaceAll(`localhost:${new URL(origin).port}`, "localhost:5173")
    .replaceAll(`127.0.0.1:${new URL(origin).port}`, "127.0.0.1:5173")
    .replace(/#[0-9a-f]{8}\b/g, "#3f9a01c2")
    .replace(/\b1[78]\d{8}\b/g, "1790000000")
    .replace(/\b59 seconds|\b1 minute\b/g, "1 minute")
    .replace(/\d+ s after it/g, "0 s after it");
}

/** A free port of four digits, so that marks stand right when the demo's port takes its place. */
async function freePort() {
  for (let port = 5200; port < 9999; port += 1) {
    const server = createServer();
    const isFree = await new Promise((resolve) => {
      server.once("error", () => resolve(false));
      server.listen(port, "localhost", () => server.close(() => resolve(true)));
    });
    if (isFree) return port;
  }
  throw new Error("no free port of four digits");
}

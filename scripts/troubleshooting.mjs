// npm run troubleshooting: plants ten mistakes, one after the other, lets the command find each, and writes
// docs/guide-troubleshooting.md from what it says. With --check nothing is written. Exit code 1 if one is not found.
import { spawn } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";

const folder = mkdtempSync(join(tmpdir(), "tenonsaw-troubleshooting-"));
const settingsFile = join(folder, "tenonsaw.config.json");
let ahead = 0;
const practice = await startPractice({ algorithm: "ES256", now: () => Date.now() / 1000 + ahead });
const origin = `http://localhost:${await freePort()}`;
const redirectUri = `${origin}/sign-in/from/quayside`;
const harbourUri = `${origin}/sign-in/from/harbour`;
const good = {
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
const withQuayside = (changes) => ({
  ...good,
  providers: { quayside: { ...good.providers.quayside, ...changes } },
});
const registered = (uri) => practice.register({ ...defaultClient, redirectUris: [uri, harbourUri] });
const check = () => tenonsaw(["check", "quayside", "--settings", settingsFile]);
const nothing = () => undefined;

/** Each mistake: how it comes about, how it is planted, how it is found, and what the finding has to say. */
const mistakes = [
  {
    title: "A trailing slash in the registered redirect URI",
    plant: () => registered(`${redirectUri}/`),
    find: check,
    says: [
      /the redirect URI is refused/,
      /registered +.*\/from\/quayside\/$/m,
      /\^$/m,
      /change at the provider/,
    ],
  },
  {
    title: "https registered, http sent",
    plant: () => registered(redirectUri.replace("http:", "https:")),
    find: check,
    says: [/the redirect URI is refused/, /registered +https:/, /change at the provider/],
  },
  {
    title: "Another port registered",
    plant: () => registered("http://localhost:3000/sign-in/from/quayside"),
    find: check,
    says: [/the redirect URI is refused/, /registered +http:\/\/localhost:3000/, /change at the provider/],
  },
  {
    title: "127.0.0.1 registered, localhost sent",
    plant: () => registered(redirectUri.replace("localhost", "127.0.0.1")),
    find: check,
    says: [/the redirect URI is refused/, /registered +http:\/\/127\.0\.0\.1/, /change at the provider/],
  },
  {
    title: "The client ID of another environment",
    settings: withQuayside({ clientId: "ferrywell-live" }),
    plant: nothing,
    find: check,
    says: [/the client is not known/, /client ID or secret is not accepted/],
  },
  {
    title: "A wrong secret",
    plant: nothing,
    secret: "the-secret-of-last-year",
    find: check,
    says: [
      /client ID or secret is not accepted.*The secret is wrong/,
      /change here: Compare clientId and the secret/,
    ],
  },
  {
    title: "A scope that is missing",
    settings: withQuayside({ scope: "openid profile" }),
    plant: nothing,
    find: () => trySignIn("quayside", "Maren", ["--call", `${practice.tidebook}/tides/today`]),
    says: [/does not allow this: it takes tides\.read/, /add the scope to `scope`/],
  },
  {
    title: "A token for another audience",
    plant: nothing,
    find: explainForeignToken,
    says: [
      /identity\.audience-mismatch: expected "ferrywell", received "ferrywell-staging"/,
      /Check\s+`clientId`/,
    ],
  },
  {
    title: "A person of another tenant",
    settings: {
      origin,
      providers: {
        harbour: {
          issuer: `${practice.harbour}/{organisation}`,
          clientId: "ferrywell",
          clientSecret: { env: "QUAYSIDE_SECRET" },
          deviations: {
            metadataUrl: `${practice.harbour}/common/.well-known/openid-configuration`,
            tenants: { placeholder: "{organisation}", admitted: ["rowing-club"] },
          },
        },
      },
    },
    plant: nothing,
    find: () => trySignIn("harbour", "Zoë"),
    says: [/provider\.tenant-refused/, /received: "sailing-club"/, /change here: Add the tenant/],
  },
  {
    title: "A wrong clock",
    plant: () => (ahead = 240),
    find: check,
    says: [/this machine is 2\d\d s behind the provider/, /Set this machine's clock/],
  },
];

const sections = [];
let missed = 0;
for (const { title, settings = good, plant, find, secret = defaultClient.clientSecret, says } of mistakes) {
  registered(redirectUri);
  process.env.QUAYSIDE_SECRET = secret;
  process.env.TENONSAW_KEYS = Buffer.alloc(32, 1).toString("base64url");
  writeFileSync(settingsFile, JSON.stringify(settings, undefined, 2));
  await plant();
  const { shown, output } = await find();
  ahead = 0;
  const unsaid = says.filter((pattern) => !pattern.test(output));
  if (unsaid.length > 0) {
    missed += 1;
    console.error(`NOT FOUND: ${title}: ${unsaid.join(", ")}\n${output}`);
  } else console.log(`found: ${title}`);
  sections.push(`## ${sections.length + 1}. ${title}\n\n\`\`\`\n$ ${shown}\n${tidy(output)}\n\`\`\``);
}
await practice.stop();
rmSync(folder, { recursive: true });
if (!process.argv.includes("--check") && missed === 0) writeFileSync("docs/guide-troubleshooting.md", page());
process.exitCode = missed === 0 ? 0 : 1;

function page() {
  return `# Ten mistakes, and how they show

Each of these costs an afternoon when it is met without help. Here each was made on purpose, with the practice providers,
and this is what the command said: what is wrong, with the difference marked, and on which side to change it. Of \`check\`
the first lines are shown; it goes on with everything it looked at.

This page is written by \`npm run troubleshooting\`, which makes the mistakes anew and fails if one is not found.

${sections.join("\n\n")}
`;
}

/** The part of an output that says what is wrong, with the ports of the demo in place of those of this run. */
function tidy(output) {
  const ports = {
    [practice.issuer]: "http://localhost:4600",
    [practice.tidebook]: "http://localhost:4700",
    [practice.harbour]: "http://localhost:4800",
  };
  let text = output.split(/\n\nsettings\n/)[0].trim();
  for (const [from, to] of Object.entries({ ...ports, [origin]: "http://localhost:5173" }))
    text = text.replaceAll(from, to);
  for (const scheme of ["https://localhost", "http://127.0.0.1"]) {
    text = text.replaceAll(`${scheme}:${new URL(origin).port}`, `${scheme}:5173`);
  }
  return text.replaceAll(settingsFile, "tenonsaw.config.json");
}

function tenonsaw(args, { input, onOutput } = {}) {
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
  const shown = `tenonsaw ${args.join(" ").replace(` --settings ${settingsFile}`, "")}`.replace(
    settingsFile,
    "tenonsaw.config.json",
  );
  return new Promise((resolve) => child.on("close", () => resolve({ shown: tidy(shown), output })));
}

/** Signs in as somebody while `tenonsaw try` waits; what comes after the sign-in is shown. */
async function trySignIn(provider, person, more = []) {
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

async function explainForeignToken() {
  const { beginSignIn, finishSignIn, openProvider } = await import("tenonsaw");
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
  const { shown, output } = await tenonsaw(["explain", "--settings", settingsFile], { input: grant.idToken });
  return { shown: `${shown} < token.txt`, output: output.split("\n┌")[0] };
}

/** A free port of four digits, so that marks stand right when the demo's port takes its place. */
async function freePort() {
  const { createServer } = await import("node:net");
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

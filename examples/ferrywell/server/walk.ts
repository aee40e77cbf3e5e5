import { once } from "node:events";
import { mkdtemp, rm } from "node:fs/promises";
import { createServer, type AddressInfo } from "node:net";
import { randomBytes } from "node:crypto";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as wait } from "node:timers/promises";
import Database from "libsql";
import pc from "picocolors";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { findStore } from "./find-store.js";
import { registration, serveFerrywell } from "./serve-ferrywell.js";
import { serveTidebook } from "./serve-tidebook.js";

// Walks through the demo over HTTP, against services started for it, and says how each leg went. With a store that is named,
// redis or postgres or a URL of one, on that; otherwise on SQLite.
// Exit code: 0 all as it should be, 1 something was not.

const accessTokenSeconds = 5;
const folder = await mkdtemp(join(tmpdir(), "ferrywell-walk-"));
process.env["FERRYWELL_KEYS"] = randomBytes(32).toString("base64url");
process.env["QUAYSIDE_SECRET"] = defaultClient.clientSecret;

const tidebookPort = await freePort();
const practice = await startPractice({
  lifetimes: { accessTokenSeconds },
  withoutTidebook: true,
  ports: { tidebook: tidebookPort },
});
const tidebook = await serveTidebook(tidebookPort, practice.issuer, () => undefined);
const [store = "sqlite"] = process.argv.slice(2);
const { place: database, stop: stopStore } = await findStore(store, join(folder, "ferrywell.db"));
const ferrywell = await serveFerrywell(0, { practice, database });
const { origin } = ferrywell;
practice.register(registration(origin));

let deviations = 0;
const visitor = createVisitor();

interface Me {
  readonly kind: string;
  readonly person?: { readonly name?: string };
  readonly connection?: { readonly scope: readonly string[]; readonly refreshCount: number };
}
interface Account {
  readonly id: string;
  readonly isConfirmed: boolean;
}
const accounts = async () => {
  const answer = await visitor.fetch(`${origin}/sign-in/accounts`);
  return ((await answer.json()) as { readonly accounts: readonly Account[] }).accounts;
};
const ask = async (path: string) => (await visitor.fetch(origin + path)).json() as Promise<Me>;

await leg("Ferrywell is open to visitors", async () => {
  const page = await visitor.open(origin);
  const me = await ask("/api/me");
  return page.status === 200 && page.text.includes("/main.ts") && me.kind === "nobody";
});
await leg("Tides is for members: the way leads to the chooser", async () => {
  const page = await visitor.open(`${origin}/tides`);
  return page.url.startsWith(`${origin}/sign-in?`) && page.text.includes("Sign in with Quayside ID");
});
await leg("the button leads to Quayside ID", async () => {
  const page = await visitor.press("Sign in with Quayside ID");
  return new URL(page.url).origin === practice.issuer && page.text.includes("for trying things out only");
});
await leg("a member is picked and asked for consent", async () => {
  const page = await visitor.press("Maren Holt");
  return page.text.includes("tides.read") && page.text.includes("No, not now");
});
await leg("after consent the member is back at Tides", async () => {
  const page = await visitor.press("Yes, allow");
  return page.url === `${origin}/tides` && page.status === 200;
});
await leg("Ferrywell knows who it is and what the token allows, and shows no token", async () => {
  const me = await ask("/api/me");
  const isComplete = me.person?.name === "Maren Holt" && me.connection?.scope.includes("tides.read") === true;
  return isComplete && !JSON.stringify(me).includes("eyJ");
});
await leg("Tidebook answers with tides", async () => "tides" in (await ask("/api/tides")));
await leg(
  `after ${accessTokenSeconds} seconds the token is renewed silently, once for ten calls`,
  async () => {
    await wait(accessTokenSeconds * 1000);
    const answers = await Promise.all(Array.from({ length: 10 }, () => ask("/api/tides")));
    return answers.every((answer) => "tides" in answer && answer.connection?.refreshCount === 1);
  },
);
const relay = async (path: string, method: string) => {
  const send = () =>
    visitor.fetch(`${origin}/sign-in/relay/tidebook${path}`, {
      method,
      headers: { "sec-fetch-site": "same-origin", "sec-fetch-dest": "empty", origin },
    });
  const answer = await send();
  // On a slow machine a token of so few seconds may be over on its way, and what a page sends is not sent twice for it.
  return answer.status === 401 ? send() : answer;
};
await leg("booking takes one scope more: the member is asked, comes back, and books", async () => {
  const before = await relay("/slots/1", "POST");
  const asked = await visitor.open(`${origin}/slots`);
  const page = await visitor.press("Yes, allow");
  const booked = await relay("/slots/1", "POST");
  return (
    before.status === 403 && asked.text.includes("slots.write") && page.url === `${origin}/slots` && booked.ok
  );
});
await leg(
  "a booking is taken back by the harbour master only",
  async () => (await relay("/slots/1", "DELETE")).status === 403,
);
await leg("the database reads like a register, its tokens sealed", () => {
  if (store !== "sqlite") return Promise.resolve(true);
  const opened = new Database(database, { readonly: true });
  const [person] = opened.prepare("SELECT name FROM people").raw().all() as [string][];
  const connections = opened.prepare("SELECT * FROM connections").raw().all();
  opened.close();
  return Promise.resolve(person?.[0] === "Maren Holt" && connections.length === 1 && isSealed(connections));
});
await leg("a company is connected at Ledgerhouse, and named by the provider itself", async () => {
  const asking = await visitor.open(`${origin}/sign-in/connect/ledgerhouse?returnTo=/books`);
  await visitor.press("Connect Ledgerhouse");
  await visitor.press("Maren Holt");
  const page = await visitor.press("Ferrywell Rowing Club");
  const [account] = await accounts();
  return (
    asking.text.includes("until you disconnect it") &&
    page.url === `${origin}/books` &&
    account?.isConfirmed === true
  );
});
await leg("a second company stands beside it", async () => {
  await visitor.open(`${origin}/sign-in/connect/ledgerhouse?returnTo=/books`);
  await visitor.press("Connect Ledgerhouse");
  await visitor.press("Maren Holt");
  await visitor.press("Ferrywell Boat Hire");
  return (await accounts()).length === 2;
});
await leg("the relay calls the API for a page, with the token that the page never has", async () => {
  const headers = {
    "sec-fetch-site": "same-origin",
    "sec-fetch-dest": "empty",
    "tenonsaw-account": "fw-club",
  };
  const answer = await visitor.fetch(`${origin}/sign-in/relay/ledger/api/invoices`, { headers });
  const without = await visitor.fetch(`${origin}/sign-in/relay/ledger/api/invoices`);
  return answer.ok && (await answer.text()).includes("Maren Holt") && without.status === 403;
});
await leg("another site cannot sign the member out", async () => {
  const page = await visitor.post(`${origin}/sign-in/out`, {}, "https://elsewhere.example");
  return page.status === 403 && (await ask("/api/me")).kind === "somebody";
});
await leg("sign-out ends here, goes by Quayside ID, and comes back", async () => {
  const page = await visitor.post(`${origin}/sign-in/out`, {});
  const wentByProvider = page.trail.some((url) => url.startsWith(`${practice.issuer}/end-session`));
  return wentByProvider && page.url === `${origin}/` && (await ask("/api/me")).kind === "nobody";
});
await leg("what was private is private again", async () => {
  const page = await visitor.open(`${origin}/tides`);
  const answer = await visitor.fetch(`${origin}/api/tides`);
  return page.url.startsWith(`${origin}/sign-in?`) && answer.status === 401;
});
await leg("signed in again, what was connected is there still; one is disconnected", async () => {
  await visitor.press("Sign in with Quayside ID");
  await visitor.press("Maren Holt");
  await visitor.press("Yes, allow");
  const before = await accounts();
  const page = await visitor.post(`${origin}/sign-in/disconnect`, {
    connection: before[0]?.id ?? "",
    returnTo: "/books",
  });
  const after = await accounts();
  await visitor.post(`${origin}/sign-in/out`, {});
  await visitor.open(`${origin}/tides`);
  return before.length === 2 && page.url === `${origin}/books` && after.length === 1;
});
await leg("saying no leads to the page for those who changed their mind", async () => {
  await visitor.press("Sign in with Quayside ID");
  await visitor.press("Ib");
  const page = await visitor.press("No, not now");
  return page.url.startsWith(`${origin}/changed-your-mind`) && (await ask("/api/me")).kind === "nobody";
});

await ferrywell.stop();
await tidebook.stop();
await practice.stop();
await stopStore();
await rm(folder, { recursive: true });
console.log(
  deviations === 0 ? pc.green("The walk went as it should.") : pc.red(`${deviations} legs did not.`),
);
process.exitCode = deviations === 0 ? 0 : 1;

async function leg(title: string, holds: () => Promise<boolean>): Promise<void> {
  const startedAt = performance.now();
  let reason = "";
  const isRight = await holds().catch((error: unknown) => {
    reason = `: ${error instanceof Error ? error.message : String(error)}`;
    return false;
  });
  if (!isRight) deviations += 1;
  const duration = pc.dim(`${Math.round(performance.now() - startedAt)} ms`);
  console.log(`${isRight ? pc.green("ok   ") : pc.red("WRONG")} ${title}${reason} ${duration}`);
}

/** No token in clear: neither a JWT nor anything but compact JWE in the sealed columns. */
function isSealed(rows: readonly unknown[]): boolean {
  const texts = (rows as unknown[][]).flat().filter((value): value is string => typeof value === "string");
  const sealed = texts.filter((text) => /^[\w-]+\.\.[\w-]{16}\.[\w-]+\.[\w-]{22}$/.test(text));
  return sealed.length === 3 && texts.every((text) => sealed.includes(text) || !text.includes("eyJ"));
}

async function freePort(): Promise<number> {
  const server = createServer().listen(0, "localhost");
  await once(server, "listening");
  const { port } = server.address() as AddressInfo;
  server.close();
  await once(server, "close");
  return port;
}

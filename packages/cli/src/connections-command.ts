import { Command, Option } from "commander";
import pc from "picocolors";
import { isProblem, ProblemError, problemText } from "tenonsaw";
import { visible } from "tenonsaw/problem";
import type { ResolvedSignInSettings, Store } from "tenonsaw/server";
import { readSettingsFile } from "tenonsaw/node";
import { withCommonOptions, type CommonOptions } from "./common-options.js";
import { explainRefusal } from "./explain-refusal.js";
import { sampleOf } from "./sample-of.js";
import { openApp, type OpenedApp } from "./open-app.js";
import { withStore } from "./open-store.js";
import { allKept, search } from "./search.js";
import { time } from "./time.js";

interface ConnectionsOptions extends CommonOptions {
  readonly store: string;
  readonly person?: string;
  readonly provider?: string;
  readonly account?: string;
  readonly state?: "in-order" | "needs-consent";
}

type Kept = Awaited<ReturnType<Store["findAllKept"]>>[number];

export function connectionsCommand(): Command {
  const command = new Command("connections").description(
    "What people have connected: list, show, test and end connections, as an operator.",
  );
  const actions = [
    new Command("list").description("List connected accounts, the newest first.").action(list),
    new Command("show")
      .description("Show one connection, without its tokens.")
      .argument("<connection>", "the beginning of its ID, as the list has it")
      .action(show),
    new Command("test")
      .description("Make each API's declared sample request with the connections that are chosen.")
      .argument("[connection]", "the beginning of its ID; without it, all that the options choose")
      .action(test),
    new Command("end")
      .description("End connections, and take their tokens back at the provider.")
      .argument("[connection]", "the beginning of its ID; without it, all that the options choose")
      .action(end),
  ];
  for (const action of actions) command.addCommand(withChoice(withCommonOptions(action)).exitOverride());
  return command.addHelpText(
    "after",
    "\nExamples:\n  tenonsaw connections list --store ferrywell.db --provider ledgerhouse\n  tenonsaw connections test --store ferrywell.db --person member-1\n  tenonsaw connections end --store redis://localhost:6379/0 --account fw-club\n\nExit code: 0 done, 1 the choice fits no connection, or a test failed, 2 it could not be done, or no one connection has such an ID.",
  );
}

function withChoice(command: Command): Command {
  return command
    .requiredOption("--store <place>", "the app's SQLite file, or a URL redis://… or postgres://…")
    .option("--person <id>", "only of this person, by their ID")
    .option("--provider <name>", "only at this provider")
    .option("--account <id>", "only of this account, by the provider's ID of it")
    .addOption(
      new Option("--state <state>", "only those in this state").choices(["in-order", "needs-consent"]),
    );
}

async function list(options: ConnectionsOptions): Promise<void> {
  await withStore(options.store, async (store) => {
    const found = await choose(store, options);
    if (found.length === 0) process.exitCode = 1;
    if (options.json) {
      console.log(JSON.stringify(found.map(describeJson), undefined, 2));
      return;
    }
    if (found.length > 0)
      console.log(pc.dim(row(["connection", "at", "account", "state", "last used", "person"])));
    for (const each of found) console.log(line(each));
    console.log(pc.dim(found.length === 1 ? "1 connection" : `${found.length} connections`));
  });
}

async function show(id: string, options: ConnectionsOptions): Promise<void> {
  await withStore(options.store, async (store) => {
    const kept = await chooseOne(store, options, id);
    if (options.json) {
      console.log(JSON.stringify(describeJson(kept), undefined, 2));
      return;
    }
    const { accountName, confirmedAt, environment, expiresAt, sealedRefreshToken } = kept;
    const rows: readonly (readonly [string, string])[] = [
      ["connection", kept.id],
      ["person", kept.personId],
      ["at", `${kept.provider}${environment === "" ? "" : `, ${environment}`}`],
      [
        "account",
        `${accountName ?? "(no name)"}  (${kept.account}${confirmedAt === undefined ? ", not confirmed by the provider" : ""})`,
      ],
      ["allows", kept.scope || "(no scopes)"],
      ["state", stateOf(kept)],
      ["connected", time(kept.connectedAt)],
      ["last used", kept.lastUsedAt === undefined ? "never" : time(kept.lastUsedAt)],
      ["renewed", `${kept.refreshCount} times${sealedRefreshToken === undefined ? ", and cannot be" : ""}`],
      ...(expiresAt === undefined ? [] : [["token until", time(expiresAt)] as const]),
    ];
    for (const [name, value] of rows) console.log(`  ${pc.bold(name.padEnd(12))} ${visible(value)}`);
  });
}

/** What came of one sample request. */
interface Tested {
  readonly connection: string;
  readonly isRight: boolean;
  readonly said: string;
}

async function test(id: string | undefined, options: ConnectionsOptions): Promise<void> {
  await withStore(options.store, async (store) => {
    const found = await chooseSome(store, options, id);
    const { settings } = readSettingsFile(options.settings, options.env);
    const app = await openApp(settings, { store });
    const tested: Tested[] = [];
    for (const kept of found) {
      const result = await testOne(app, settings, kept);
      tested.push(result);
      if (options.json) continue;
      const mark = result.isRight ? pc.green("works ") : pc.red("failed");
      console.log(
        `${mark}  ${visible(`${kept.provider} ${kept.accountName ?? kept.account}: ${result.said}`)}`,
      );
    }
    if (options.json) console.log(JSON.stringify(tested, undefined, 2));
    if (tested.length === 0 || tested.some(({ isRight }) => !isRight)) process.exitCode = 1;
    if (tested.length === 0 && !options.json) console.log("0 connections tested.");
  });
}

async function testOne(app: OpenedApp, settings: ResolvedSignInSettings, kept: Kept): Promise<Tested> {
  const { id: connection, personId, provider, account } = kept;
  const sample = sampleOf(settings, provider);
  if (!sample) throw new ProblemError("cli.sample-missing", { received: `no API of ${provider} with one` });
  const { api, path } = sample;
  try {
    const answer = await app.fetchFor(personId, api, path, { account });
    const advice = explainRefusal(answer);
    await answer.body?.cancel();
    const said = `GET ${path} of ${api} → ${answer.status}${advice === undefined ? "" : `. ${advice}`}`;
    return { connection, isRight: answer.ok, said };
  } catch (error) {
    if (isProblem(error)) return { connection, isRight: false, said: problemText(error.problem) };
    return { connection, isRight: false, said: `GET ${path} of ${api}: no answer` };
  }
}

async function end(id: string | undefined, options: ConnectionsOptions): Promise<void> {
  await withStore(options.store, async (store) => {
    const { person, provider, account, state } = options;
    const isChosen = [person, provider, account, state].some((each) => each !== undefined);
    if (id === undefined && !isChosen)
      throw new ProblemError("cli.connection-unnamed", { received: "neither a connection nor a choice" });
    const found = await chooseSome(store, options, id);
    const { settings } = readSettingsFile(options.settings, options.env);
    const app = await openApp(settings, { store });
    for (const kept of found) await app.disconnect(kept.personId, kept.id);
    if (options.json) console.log(JSON.stringify({ ended: found.map((kept) => kept.id) }));
    else console.log(found.length === 1 ? "1 connection ended." : `${found.length} connections ended.`);
    if (found.length === 0) process.exitCode = 1;
  });
}

async function choose(
  store: Store,
  { person, provider, account, state }: ConnectionsOptions,
): Promise<readonly Kept[]> {
  const query = {
    ...(person !== undefined && { personId: person }),
    ...(provider !== undefined && { provider }),
    ...(account !== undefined && { account }),
  };
  const isSought = (each: Kept) => state === undefined || stateOf(each) === state.replace("-", " ");
  return search(allKept(store, query), isSought, "connections");
}

async function chooseSome(
  store: Store,
  options: ConnectionsOptions,
  id: string | undefined,
): Promise<readonly Kept[]> {
  return id === undefined ? choose(store, options) : [await chooseOne(store, options, id)];
}

async function chooseOne(store: Store, options: ConnectionsOptions, id: string): Promise<Kept> {
  const found = (await choose(store, options)).filter((each) => each.id.startsWith(id));
  const [only] = found;
  if (only && found.length === 1) return only;
  throw new ProblemError("cli.connection-unnamed", {
    received: `${found.length} connections whose ID begins with ${JSON.stringify(id.slice(0, 43))}`,
  });
}

function describeJson(kept: Kept): object {
  const { id, personId, provider, environment, account, accountName, confirmedAt, scope } = kept;
  const { connectedAt, lastUsedAt, refreshCount, expiresAt, sealedRefreshToken } = kept;
  const isRenewable = sealedRefreshToken !== undefined;
  return {
    ...{ id, personId, provider, environment, account, accountName, isConfirmed: confirmedAt !== undefined },
    ...{ scope, state: stateOf(kept), connectedAt, lastUsedAt, refreshCount, expiresAt, isRenewable },
  };
}

function stateOf({ status, expiresAt, sealedRefreshToken }: Kept): string {
  const isSpent =
    sealedRefreshToken === undefined && expiresAt !== undefined && expiresAt <= Date.now() / 1000;
  return status === "ended" || isSpent ? "needs consent" : "in order";
}

function line(kept: Kept): string {
  const { id, provider, account, accountName, lastUsedAt, personId } = kept;
  const used = lastUsedAt === undefined ? "never" : time(lastUsedAt);
  const name = accountName === undefined ? account : `${accountName} (${account})`;
  // On one line each: a name may not begin another.
  return row([id.slice(0, 10), provider, visible(name), stateOf(kept), used, visible(personId)]);
}

function row([id, provider, account, state, used, person]: readonly [
  string,
  string,
  string,
  string,
  string,
  string,
]): string {
  return `${id.padEnd(10)}  ${provider.padEnd(12)}  ${account.padEnd(32)}  ${state.padEnd(13)}  ${used.padEnd(16)}  ${person}`;
}

import { Command, InvalidArgumentError } from "commander";
import pc from "picocolors";
import { createPlatform, ProblemError } from "tenonsaw";
import { visible } from "tenonsaw/problem";
import { createSignIn, type Store } from "tenonsaw/server";
import { readSettingsFile } from "tenonsaw/node";
import { withCommonOptions, type CommonOptions } from "./common-options.js";
import { withStore } from "./open-store.js";
import { allSessions, search, type Found } from "./search.js";
import { time } from "./time.js";

interface SessionsOptions extends CommonOptions {
  readonly store: string;
  readonly person?: string;
  readonly provider?: string;
  readonly olderThan?: number;
}

export function sessionsCommand(): Command {
  const command = new Command("sessions").description(
    "Who is signed in: list, show and end sessions, as an operator.",
  );
  const actions = [
    new Command("list").description("List sessions, the newest first.").action(list),
    new Command("show")
      .description("Show one session and what it holds, without its tokens.")
      .argument("<session>", "the beginning of its ID, as the list has it")
      .action(show),
    new Command("end")
      .description("End sessions, and take their tokens back at the provider.")
      .argument("[session]", "the beginning of its ID; without it, all that the options choose")
      .action(end),
  ];
  for (const action of actions) command.addCommand(withChoice(withCommonOptions(action)).exitOverride());
  return command.addHelpText(
    "after",
    "\nExamples:\n  tenonsaw sessions list --store ferrywell.db --provider quayside\n  tenonsaw sessions end --store redis://localhost:6379/0 --person Maren\n\nExit code: 0 done, 1 the choice fits no session, 2 it could not be done, or no one session has such an ID.",
  );
}

function withChoice(command: Command): Command {
  return command
    .requiredOption("--store <place>", "the app's SQLite file, or a URL redis://… or postgres://…")
    .option("--person <who>", "only of this person: their ID, or how their name or e-mail address begins")
    .option("--provider <name>", "only those signed in with this provider")
    .option("--older-than <days>", "only those that began longer ago", readDays);
}

async function list(options: SessionsOptions): Promise<void> {
  await withStore(options.store, async (store) => {
    const found = await choose(store, options);
    if (found.length === 0) process.exitCode = 1;
    if (options.json) {
      console.log(JSON.stringify(found.map(describeJson), undefined, 2));
      return;
    }
    if (found.length > 0) console.log(pc.dim(row(["session", "signed in", "with", "person"])));
    for (const each of found) console.log(line(each));
    console.log(pc.dim(found.length === 1 ? "1 session" : `${found.length} sessions`));
  });
}

async function show(id: string, options: SessionsOptions): Promise<void> {
  await withStore(options.store, async (store) => {
    const found = await chooseOne(store, options, id);
    const connections = await connectionsOf(store, found, options);
    if (options.json) {
      console.log(JSON.stringify({ ...describeJson(found), connections }, undefined, 2));
      return;
    }
    const { session, person } = found;
    const rows: readonly (readonly [string, string])[] = [
      ["session", session.id],
      ["person", `${person.name ?? "(no name)"}  ${person.email ?? ""}  (${person.id})`],
      [
        "signed in",
        `${time(session.createdAt)} with ${session.provider} (${session.issuer} ${session.subject})`,
      ],
      ["ends", time(session.expiresAt)],
      ...connections.map(
        ({ provider, status, scope, refreshCount, expiresAt }) =>
          [
            `at ${provider}`,
            `${status === "ended" ? "needs consent" : status}, allows ${scope || "(no scopes)"}, renewed ${refreshCount} times${expiresAt === undefined ? "" : `, token until ${time(expiresAt)}`}`,
          ] as const,
      ),
    ];
    for (const [name, value] of rows) console.log(`  ${pc.bold(name.padEnd(12))} ${visible(value)}`);
  });
}

async function end(id: string | undefined, options: SessionsOptions): Promise<void> {
  await withStore(options.store, async (store) => {
    const isChosen = [options.person, options.provider, options.olderThan].some((each) => each !== undefined);
    if (id === undefined && !isChosen)
      throw new ProblemError("cli.session-unnamed", { received: "neither a session nor a choice" });
    const signIn = await createSignIn({ ...readSettingsFile(options.settings, options.env).settings, store });
    const ended: string[] = [];
    let found = id === undefined ? await choose(store, options) : [await chooseOne(store, options, id)];
    while (found.length > 0) {
      for (const { session } of found) {
        await signIn.endSession(session.id);
        ended.push(session.id);
      }
      // What is left may be more than are found at a time.
      found = id === undefined ? await choose(store, options) : [];
    }
    if (options.json) console.log(JSON.stringify({ ended }));
    else console.log(ended.length === 1 ? "1 session ended." : `${ended.length} sessions ended.`);
    if (ended.length === 0) process.exitCode = 1;
  });
}

async function choose(
  store: Store,
  { person: who, provider, olderThan }: SessionsOptions,
): Promise<readonly Found[]> {
  const now = createPlatform().now();
  const query = provider === undefined ? {} : { provider };
  // By ID the store finds all of theirs, wherever they stand among those of everybody.
  const byId = who === undefined ? [] : await store.findSessions({ ...query, personId: who }, { most: 1 });
  const sought = who !== undefined && byId.length > 0 ? { ...query, personId: who } : query;
  const isSought = ({ session, person }: Found) => {
    const isTheirs =
      who === undefined ||
      person.id === who ||
      [person.name, person.email].some((text) => text?.toLowerCase().startsWith(who.toLowerCase()));
    const isOld = olderThan === undefined || now - session.createdAt > olderThan * 86_400;
    return isTheirs && isOld && session.expiresAt > now;
  };
  return search(allSessions(store, sought), isSought, "sessions");
}

async function chooseOne(store: Store, options: SessionsOptions, id: string): Promise<Found> {
  const found = (await choose(store, options)).filter(({ session }) => session.id.startsWith(id));
  const [only] = found;
  if (only && found.length === 1) return only;
  throw new ProblemError("cli.session-unnamed", {
    received: `${found.length} sessions whose ID begins with ${JSON.stringify(id.slice(0, 43))}`,
  });
}

/** At every provider of the settings: a store finds what a session holds by provider. */
async function connectionsOf(store: Store, { session }: Found, { settings: file, env }: SessionsOptions) {
  const { settings } = readSettingsFile(file, env);
  const names = Object.keys({ ...settings.providers, ...settings.oauth1Providers });
  const held = await Promise.all(names.map((name) => store.findConnection(session.id, name)));
  return held.flatMap((each) => {
    if (!each) return [];
    const { provider, status, scope, refreshCount, obtainedAt, expiresAt } = each;
    return [{ provider, status, scope, refreshCount, obtainedAt, expiresAt }];
  });
}

function describeJson({ session, person }: Found): object {
  const { id, provider, issuer, subject, createdAt, expiresAt } = session;
  return { id, provider, issuer, subject, createdAt, expiresAt, person };
}

function line({ session, person }: Found): string {
  // On one line each: a name may not begin another.
  const name = visible(person.name ?? person.id);
  const columns = [session.id.slice(0, 10), time(session.createdAt), session.provider, name] as const;
  return `${row(columns)}  ${pc.dim(visible(person.email ?? ""))}`;
}

function row([session, since, provider, person]: readonly [string, string, string, string]): string {
  return `${session.padEnd(10)}  ${since.padEnd(16)}  ${provider.padEnd(10)}  ${person}`;
}

function readDays(text: string): number {
  const days = Number(text);
  if (!Number.isFinite(days) || days < 0) throw new InvalidArgumentError("It takes a number of days.");
  return days;
}

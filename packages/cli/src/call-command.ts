import { Command, InvalidArgumentError } from "commander";
import pc from "picocolors";
import { openProvider, ProblemError, type Platform, requestClientToken } from "tenonsaw";
import type { ResolvedSignInSettings, Store } from "tenonsaw/server";
import { readSettingsFile } from "tenonsaw/node";
import { explainRefusal } from "./explain-refusal.js";
import { addressAt } from "./find-api.js";
import { bodyOf, callApi } from "./call-api.js";
import { openApp } from "./open-app.js";
import { withStore } from "./open-store.js";
import { allSessions, type Found } from "./search.js";
import { whileWorking } from "./working.js";
import {
  onlyWith,
  platformWith,
  withCertificateOptions,
  withCommonOptions,
  type CertificateOptions,
  type CommonOptions,
} from "./common-options.js";

/** As much of a body as is shown. */
const mostCharacters = 1_000_000;
/** So many others are named where nobody is like the one that is meant. */
const mostNamed = 20;

interface CallOptions extends CommonOptions, CertificateOptions {
  readonly method: string;
  readonly header?: readonly string[];
  readonly body?: string;
  readonly store?: string;
  readonly person?: string;
  readonly account?: string;
}

export function callCommand(): Command {
  const command = new Command("call")
    .description(
      "Call an API as the app itself, or for somebody who is signed in, and show request and answer without the token.",
    )
    .argument("<api>", "name of an API in the settings")
    .argument("[path]", "path at the API's origin", "/")
    .option("--method <method>", "HTTP method", readMethod, "GET")
    .option("--header <header>", "a header, as in 'name: value' (may be repeated)", collectHeader)
    .option("--body <text>", "body of the request")
    .option(
      "--store <place>",
      "the app's SQLite file, or a URL redis://… or postgres://…: call with what a person's connection keeps",
    )
    .option("--person <who>", "with --store, whose: ID, name or e-mail address (default: who signed in last)")
    .option("--account <id>", "with --store, which of their connected accounts, where there are several")
    .addHelpText(
      "after",
      "\nExamples:\n  tenonsaw call slipway /status\n  tenonsaw call tidebook /tides/today --store ferrywell.db --person Maren\n\nExit code: 0 the API answered with success, 1 it did not, 2 it could not be called.",
    );
  // Without a store the app itself calls.
  return onlyWith(withCertificateOptions(withCommonOptions(command)), {
    person: ["store"],
    account: ["store"],
  }).action(run);
}

async function run(name: string, path: string, options: CallOptions, command: Command): Promise<void> {
  if (options.body !== undefined && ["GET", "HEAD"].includes(options.method))
    command.error(`error: ${options.method} takes no body; name the method with it, such as --method POST`);
  const { settings } = readSettingsFile(options.settings, options.env);
  const api = Object.hasOwn(settings.apis, name) ? settings.apis[name] : undefined;
  if (!api) {
    throw new ProblemError("connection.api-unknown", {
      received: name,
      expected: `one of ${Object.keys(settings.apis).join(", ") || "(none)"}`,
      ...apart(settings.apis, name),
    });
  }
  const url = addressAt(settings, api, path);
  const headers = new Headers(
    (options.header ?? []).map((line) => {
      const at = line.indexOf(":");
      return [line.slice(0, at).trim(), line.slice(at + 1).trim()] as [string, string];
    }),
  );
  const init = { method: options.method, headers, ...(options.body !== undefined && { body: options.body }) };
  const { answer, scope } = await whileWorking(`calling ${name}`, options.json === true, () =>
    options.store === undefined
      ? callAsApp(platformWith(options), settings, name, url, init)
      : callForPerson(settings, name, url, init, { ...options, store: options.store }),
  );
  headers.set("authorization", `Bearer (hidden, allows ${scope})`);
  const { text: body, isWhole } = await bodyOf(answer, mostCharacters);
  if (options.json) {
    console.log(
      JSON.stringify(
        {
          url,
          status: answer.status,
          headers: Object.fromEntries(answer.headers),
          body,
          ...(!isWhole && { isWhole }),
        },
        undefined,
        2,
      ),
    );
  } else {
    const sent = [...headers].map(([field, value]) => `  ${field}: ${value}`);
    const received = [...answer.headers].map(([field, value]) => `  ${field}: ${value}`);
    const status = answer.ok ? pc.green(String(answer.status)) : pc.red(String(answer.status));
    console.log(
      [
        pc.bold(`${options.method} ${url}`),
        ...sent,
        "",
        pc.bold(`Answer ${status}`),
        ...received,
        "",
        body,
        ...(isWhole ? [] : [pc.dim("… and so on: more than is shown, or it did not end within 30 seconds.")]),
      ].join("\n"),
    );
    const advice = explainRefusal(answer);
    if (advice !== undefined) console.log(`\n${pc.yellow("Why")}  ${advice}`);
  }
  process.exitCode = answer.ok ? 0 : 1;
}

type Settings = ResolvedSignInSettings;

interface Called {
  readonly answer: Response;
  readonly scope: string;
}

/** With client credentials: RFC 6749 section 4.4. */
async function callAsApp(
  platform: Platform,
  settings: Settings,
  name: string,
  url: string,
  init: RequestInit,
): Promise<Called> {
  const { clientScope, provider: providerName = "" } = settings.apis[name] ?? {};
  if (clientScope === undefined)
    throw new ProblemError("connection.no-client-scope", {
      received: `the API ${name} without one`,
      here: "To call for a person, name the app's store by --store. For calls of the app itself set `clientScope` of the API to what it may do there.",
    });
  const provider = await openProvider(settings.providers[providerName] ?? ({} as never), { platform });
  const { accessToken, scope } = await requestClientToken(provider, clientScope);
  const headers = new Headers(init.headers);
  headers.set("authorization", `Bearer ${accessToken}`);
  return { answer: await callApi(platform, url, { ...init, headers }), scope };
}

/** With the connection that the app's own store keeps, renewed where that is due, as the app would do it. */
async function callForPerson(
  settings: Settings,
  name: string,
  url: string,
  init: RequestInit,
  options: CallOptions & { readonly store: string },
): Promise<Called> {
  const { account } = options;
  return withStore(options.store, async (store) => {
    const provider = settings.apis[name]?.provider ?? "";
    const { personId, scope } = await findPerson(store, settings, provider, options);
    const app = await openApp(settings, { store, platform: platformWith(options) });
    return { answer: await app.fetchFor(personId, name, url, { ...init, account }), scope: await scope() };
  });
}

/** Who is meant: somebody who has connected an account at the provider, or who is signed in and holds a connection there. */
async function findPerson(
  store: Store,
  { connections }: Settings,
  provider: string,
  { person: who, account }: CallOptions,
): Promise<{ readonly personId: string; readonly scope: () => Promise<string> }> {
  if (Object.hasOwn(connections, provider)) {
    const kept = await store.findAllKept({
      provider,
      ...(account !== undefined && { account }),
      ...(who !== undefined && { personId: who }),
    });
    const [first] = kept;
    if (first)
      return { personId: first.personId, scope: async () => (await store.findKept(first.id))?.scope ?? "" };
  }
  const isMeant = ({ id, name: called = "", email = "" }: Person) =>
    who === undefined ||
    id === who ||
    [called, email].some((text) => text.toLowerCase().startsWith(who.toLowerCase()));
  // By ID the store finds all of theirs, wherever they stand among those of everybody.
  const byId = who === undefined ? [] : await store.findSessions({ personId: who }, { most: 1 });
  const others = new Set<string>();
  let meant: Found | undefined;
  for await (const found of allSessions(
    store,
    who !== undefined && byId.length > 0 ? { personId: who } : {},
  )) {
    const { session, person } = found;
    if (!isMeant(person) && others.size >= mostNamed) continue;
    if (!(await store.findConnection(session.id, provider))) continue;
    if (isMeant(person)) {
      meant = found;
      break;
    }
    others.add(person.name ?? person.id);
  }
  if (!meant) {
    const received = `nobody ${who === undefined ? "" : `like ${JSON.stringify(who)} `}signed in at ${provider}`;
    throw new ProblemError("connection.none", {
      received,
      expected: `one of ${[...others].join(", ") || "(nobody)"}`,
      because: "absent",
    });
  }
  const { id } = meant.session;
  return {
    personId: meant.person.id,
    scope: async () => (await store.findConnection(id, provider))?.scope ?? "",
  };
}

interface Person {
  readonly id: string;
  readonly name?: string;
  readonly email?: string;
}

/** RFC 9110 section 5.6.2. */
const token = /[!#$%&'*+.^`|~\w-]+/.source;
const headerLine = new RegExp(`^${token}[ \\t]*:[\\t\\x20-\\x7e\\x80-\\xff]*$`);
const methodName = new RegExp(`^${token}$`);

/** RFC 9110 section 5.1 and 5.5. */
function collectHeader(line: string, before: readonly string[] = []): readonly string[] {
  if (!headerLine.test(line))
    throw new InvalidArgumentError("It takes a name, a colon and a value, on one line.");
  if (/^authorization\b/i.test(line))
    throw new InvalidArgumentError("The token goes there: it is what this command calls with.");
  return [...before, line];
}

/** RFC 9110 section 9.1; what the Fetch standard forbids is forbidden here. */
function readMethod(text: string): string {
  const method = text.toUpperCase();
  if (methodName.test(method) && !["CONNECT", "TRACE", "TRACK"].includes(method)) return method;
  throw new InvalidArgumentError("It takes a method, such as GET, POST, PUT, PATCH or DELETE.");
}

/** An API and its path in one word. */
function apart(apis: object, word: string): { readonly here?: string } {
  const [name = "", ...rest] = word.split("/");
  if (rest.length === 0 || !Object.hasOwn(apis, name)) return {};
  return { here: `Put a space between the API and its path: tenonsaw call ${name} /${rest.join("/")}` };
}

import { Command, InvalidArgumentError, Option } from "commander";
import pc from "picocolors";
import {
  beginOAuth1SignIn,
  beginSignIn,
  finishDeviceSignIn,
  fetchWithGrant,
  finishOAuth1SignIn,
  finishSignIn,
  isProblem,
  openOAuth1Provider,
  openProvider,
  ProblemError,
  requestClientToken,
  requestDeviceCode,
  resolveApiUrl,
  signOAuth1Request,
  type Grant,
  type OAuth1Provider,
  type Outcome,
  type Provider,
} from "tenonsaw";
import { beginLaunch } from "tenonsaw/launch";
import { isLoopback } from "tenonsaw/platform";
import { signInRoutes, type ResolvedSignInSettings } from "tenonsaw/server";
import { readSettingsFile } from "tenonsaw/node";
import { traceDocument } from "tenonsaw/trace-page";
import type { Tools, TraceEvent, TraceRecord } from "tenonsaw/trace";
import { awaitCallback } from "./await-callback.js";
import { awaitLaunch } from "./await-launch.js";
import { callApi, reaching } from "./call-api.js";
import { chooseProviders } from "./choose-providers.js";
import { requireTenant } from "./find-api.js";
import { sampleOf } from "./sample-of.js";
import {
  endingOf,
  paint,
  showAnswer,
  showClientGrant,
  showConfirmation,
  showOutcome,
  type Say,
} from "./show-outcome.js";
import { requireNewFile, writeNewFile } from "./files.js";
import {
  platformWith,
  withCertificateOptions,
  withCommonOptions,
  type CertificateOptions,
  type CommonOptions,
} from "./common-options.js";

interface TryOptions extends CommonOptions, CertificateOptions {
  readonly redirectUri?: string;
  readonly call?: string;
  readonly device?: true;
  readonly client?: true;
  readonly scope?: string;
  readonly page?: string;
  readonly launch?: true | string;
}

export function tryCommand(): Command {
  const command = new Command("try")
    .description("Sign in for real, from the terminal, and see each leg and each check as it happens.")
    .argument("<provider>", "name of a provider in the settings")
    .option(
      "--redirect-uri <uri>",
      "a registered loopback address to come back to (default: the app's own, if it is one)",
      readLoopback,
    )
    .addOption(
      new Option("--device", "sign in on another device, by a code (RFC 8628)").conflicts([
        "client",
        "redirectUri",
      ]),
    )
    .addOption(
      new Option(
        "--client",
        "no person: an access token for the app itself, by client credentials",
      ).conflicts("redirectUri"),
    )
    .addOption(
      new Option(
        "--launch [address]",
        "be opened by the host: wait for it at the app's launch URL, or take the address that it has opened",
      ).conflicts(["device", "client"]),
    )
    .option("--scope <scopes>", "scopes to ask for instead of the settings', separated by spaces")
    .option("--page <file>", "write what happened into a file: a page (.html), or data for explain (.json)")
    .option(
      "--call <api>",
      "then make one call with the access token and show the answer: an API's name with a path, as in tidebook/tides/today, or a URL (default: the `sample` of an API of this provider)",
    )
    .addHelpText(
      "after",
      "\nExamples:\n  tenonsaw try quayside --call http://localhost:4700/tides/today\n  tenonsaw try quayside --device\n  tenonsaw try boathouse --launch\n  tenonsaw try quayside --client --scope slipway.status\n\nExit code: 0 signed in, 1 not signed in, 2 it could not be tried.",
    );
  return withCertificateOptions(withCommonOptions(command)).action(run);
}

async function run(name: string, options: TryOptions): Promise<void> {
  const { settings } = readSettingsFile(options.settings, options.env);
  chooseProviders(settings, name);
  const say = (text: string) => {
    if (options.json) console.error(text);
    else console.log(text);
  };
  const { page } = options;
  if (page !== undefined) requireNewFile(page);
  const platform = platformWith(options);
  const events: TraceEvent[] = [];
  const beganAt = platform.now();
  const trace = (event: TraceEvent) => {
    events.push(event);
    say(`  ${paint(event)}`);
  };
  let ending: string | undefined;
  try {
    ending = await tryAt(name, { settings, options, say, events }, { platform, trace });
  } catch (error) {
    ending = isProblem(error) ? error.problem.code : "not signed in";
    throw error;
  } finally {
    const title = `Sign-in at ${name}, tried`;
    if (page !== undefined)
      keepTrace(page, { id: "1", title, beganAt, events, ...(ending !== undefined && { ending }) });
  }
}

interface Trying {
  readonly settings: ResolvedSignInSettings;
  readonly options: TryOptions;
  readonly say: Say;
  /** What has happened so far. */
  readonly events: readonly TraceEvent[];
}

/** @returns how it ended; undefined where nothing came of it */
async function tryAt(name: string, trying: Trying, tools: Tools): Promise<string | undefined> {
  const { settings, options, say, events } = trying;
  // Before anybody signs in: it may be misspelt.
  const call = callOf(name, trying);
  const oauth1 = settings.oauth1Providers[name];
  if (oauth1) return tryOAuth1(name, openOAuth1Provider(oauth1, tools), call, trying);
  const declared = settings.providers[name] ?? ({} as never);
  requireTenant(name, declared);
  const provider = await openProvider(declared, tools);
  if (options.client) return tryAsClient(provider, clientScopeOf(settings, name, options), call, trying);
  const { scope } = options;
  const begin: typeof beginSignIn = provider.host ? beginLaunch : beginSignIn;
  const opened =
    options.launch && (await awaitLaunch(provider, signInRoutes(settings).launch, options.launch, say));
  if (options.launch && !opened) return undefined;
  const outcome = options.device
    ? await tryOnDevice(provider, options, say)
    : await tryInBrowser(
        options.redirectUri ?? signInRoutes(settings).callback(name),
        say,
        {
          mode: provider.responseMode,
          begin: (redirectUri) =>
            begin(provider, {
              redirectUri,
              ...(scope !== undefined && { scope }),
              ...(opened && { launch: opened.launch }),
            }),
          finish: (attempt, callback) => finishSignIn(provider, attempt, callback),
        },
        opened ? opened.goOn : undefined,
      );
  if (!outcome) return undefined;
  showOutcome(outcome, options, { provider, events, sessionClaims: declared.sessionClaims });
  if (outcome.kind === "granted") {
    if (provider.host) await showConfirmation(provider, outcome.grant, say);
    if (call !== undefined) await showGrantCall(provider, outcome.grant, call, say);
  }
  return endingOf(outcome);
}

/** The URL that is called with the token: what is asked for, or else a person's sample. */
function callOf(name: string, { settings, options }: Trying): string | undefined {
  const sample = options.client ? undefined : sampleOf(settings, name);
  const call = options.call ?? (sample && sample.api + sample.path);
  return call === undefined ? undefined : addressOf(settings, call);
}

/** A URL, or the name of an API in the settings with a path behind it: `tidebook/tides/today`. */
function addressOf({ apis }: ResolvedSignInSettings, call: string): string {
  if (URL.canParse(call)) return call;
  const [name = "", ...path] = call.split("/");
  const api = Object.hasOwn(apis, name) ? apis[name] : undefined;
  if (api) return resolveApiUrl(api, `/${path.join("/")}`);
  throw new ProblemError("connection.api-unknown", {
    received: name,
    expected: `a URL, or one of ${Object.keys(apis).join(", ") || "(none)"} with a path behind it`,
  });
}

async function showGrantCall(provider: Provider, grant: Grant, url: string, say: Say): Promise<void> {
  await showAnswer(
    url,
    await reaching(provider.tools.platform, url, () => fetchWithGrant(provider, grant, url)),
    say,
  );
}

/** For a bug report: without secrets, and with nothing from elsewhere in it. */
function keepTrace(file: string, record: TraceRecord): void {
  const isData = file.endsWith(".json");
  const text = isData
    ? JSON.stringify({ kind: "trace", records: [record] }, undefined, 2)
    : traceDocument({ records: [record] });
  writeNewFile(file, text);
}

/** The same with OAuth 1.0a, which knows nothing but the browser. */
async function tryOAuth1(
  name: string,
  provider: OAuth1Provider,
  call: string | undefined,
  { settings, options, say }: Trying,
): Promise<string | undefined> {
  const other = (["device", "client", "scope"] as const).find((each) => options[each] !== undefined);
  if (other !== undefined)
    throw new ProblemError("provider.other-protocol", { received: `--${other} with OAuth 1.0a` });
  const outcome = await tryInBrowser(options.redirectUri ?? signInRoutes(settings).callback(name), say, {
    mode: "query",
    begin: (redirectUri) => beginOAuth1SignIn(provider, { redirectUri }),
    finish: (attempt, callback) => finishOAuth1SignIn(provider, attempt, callback),
  });
  if (!outcome) return undefined;
  showOutcome(outcome, options);
  if (outcome.kind === "granted" && call !== undefined) {
    const { accessToken: token, tokenSecret = "" } = outcome.grant;
    const request = { method: "GET", url: call, headers: new Headers() };
    const signed = await signOAuth1Request(provider, { token, tokenSecret }, request);
    const { headers, url } = signed;
    await showAnswer(url, await callApi(provider.tools.platform, url, { headers }), say);
  }
  return endingOf(outcome);
}

/** RFC 8252: the redirect comes back to this process. Undefined when it was ended, or could not begin. */
async function tryInBrowser<Attempt extends { readonly state: string }>(
  redirectUri: string,
  say: Say,
  line: {
    /** How the answer comes back (OAuth 2.0 Multiple Response Type Encoding Practices 1.0 section 2.1). */
    readonly mode: string;
    readonly begin: (redirectUri: string) => Promise<{ readonly url: string; readonly attempt: Attempt }>;
    readonly finish: (attempt: Attempt, callback: string | URLSearchParams) => Promise<Outcome>;
  },
  goOn?: (url: string) => void,
): Promise<Outcome | undefined> {
  if (!isLoopback(new URL(redirectUri).hostname)) {
    console.error(`${redirectUri} is not on this machine, so the browser cannot come back here.`);
    console.error(
      "Register a loopback address as well and name it: --redirect-uri http://localhost:5173/try; or try --device.",
    );
    process.exitCode = 2;
    return undefined;
  }
  const { url, attempt } = await line.begin(redirectUri);
  const callback = await awaitCallback(redirectUri, { state: attempt.state, mode: line.mode }, say, () => {
    // A browser is here already, and is waiting.
    if (goOn) goOn(url);
    else
      say(
        `\n${pc.bold("Open this address in a browser and sign in:")}\n\n  ${url}\n\n${pc.dim("Waiting. Ctrl-C ends it.")}\n`,
      );
  });
  return callback === undefined ? undefined : line.finish(attempt, callback);
}

/** RFC 8628: the person signs in wherever they like, and this process asks until they have. */
async function tryOnDevice(provider: Provider, { scope }: TryOptions, say: Say): Promise<Outcome> {
  const device = await requestDeviceCode(provider, scope);
  const ending = new AbortController();
  const interrupt = () => {
    ending.abort();
  };
  process.once("SIGINT", interrupt);
  const direct =
    device.verificationUriComplete === undefined ? "" : `\n  or at once: ${device.verificationUriComplete}`;
  say(
    `\n${pc.bold("On any device, open this address and enter the code:")}\n\n  ${device.verificationUri}\n  ${pc.bold(device.userCode)}${direct}\n\n${pc.dim("Waiting. Ctrl-C ends it.")}\n`,
  );
  try {
    return await finishDeviceSignIn(provider, device, ending.signal);
  } finally {
    process.off("SIGINT", interrupt);
  }
}

/** The scope of the command line, or that of the first API which the app may call for itself at this provider. */
function clientScopeOf({ apis }: ResolvedSignInSettings, provider: string, { scope }: TryOptions): string {
  const declared = Object.values(apis).find(
    (api) => api.provider === provider && api.clientScope !== undefined,
  );
  const found = scope ?? declared?.clientScope;
  if (found !== undefined) return found;
  throw new ProblemError("connection.no-client-scope", {
    received: `no API of ${provider} with one`,
    here: "Name what to ask for: --scope <scopes>, or set clientScope of an API.",
  });
}

async function tryAsClient(
  provider: Provider,
  scope: string,
  call: string | undefined,
  { options, say }: Trying,
): Promise<string> {
  const grant = await requestClientToken(provider, scope);
  showClientGrant(grant, options);
  if (call !== undefined) await showGrantCall(provider, grant, call, say);
  return "a token of the app's own";
}

function readLoopback(text: string): string {
  if (URL.canParse(text) && isLoopback(new URL(text).hostname)) return text;
  throw new InvalidArgumentError("It takes a loopback address, such as http://localhost:5173/try.");
}

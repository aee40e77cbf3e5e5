import type { IncomingMessage } from "node:http";
import { Command, InvalidArgumentError, Option } from "commander";
import pc from "picocolors";
import {
  beginOAuth1SignIn,
  beginSignIn,
  finishDeviceSignIn,
  fetchWithGrant,
  finishOAuth1SignIn,
  finishSignIn,
  openOAuth1Provider,
  openProvider,
  ProblemError,
  problemText,
  requestClientToken,
  requestDeviceCode,
  resolveApiUrl,
  signOAuth1Request,
  type Grant,
  type OAuth1Provider,
  type Outcome,
  type Provider,
} from "tenonsaw";
import { visible } from "tenonsaw/problem";
import { beginLaunch, confirmToken, missingScopes, readContext, resolveUser } from "tenonsaw/launch";
import { isLoopback } from "tenonsaw/platform";
import { signInRoutes, type ResolvedSignInSettings } from "tenonsaw/server";
import { readSettingsFile } from "tenonsaw/node";
import { traceDocument } from "tenonsaw/trace-page";
import { describeEvent, type TraceEvent, type TraceRecord } from "tenonsaw/trace";
import { callApi, reaching } from "./call-api.js";
import { chooseProviders } from "./choose-providers.js";
import { awaitBrowser, type Awaiting } from "./await-browser.js";
import { awaitLaunch } from "./await-launch.js";
import { requireTenant } from "./find-api.js";
import { sampleOf } from "./sample-of.js";
import { requireNewFile, writeNewFile } from "./write-new-file.js";
import { explainRefusal } from "./explain-refusal.js";
import {
  platformWith,
  withCertificateOptions,
  withCommonOptions,
  type CertificateOptions,
  type CommonOptions,
} from "./common-options.js";

type Granted = Extract<Outcome, { readonly kind: "granted" }>;

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
  if (options.page !== undefined) requireNewFile(options.page);
  const platform = platformWith(options);
  const events: TraceEvent[] = [];
  const beganAt = platform.now();
  const tools = {
    platform,
    trace: (event: TraceEvent) => {
      events.push(event);
      say(`  ${paint(event)}`);
    },
  };
  const keep = (ending?: string) => {
    if (options.page !== undefined)
      keepTrace(options.page, {
        id: "1",
        title: `Sign-in at ${name}, tried`,
        beganAt,
        events,
        ...(ending !== undefined && { ending }),
      });
  };
  const oauth1 = settings.oauth1Providers[name];
  if (oauth1) {
    await tryOAuth1(openOAuth1Provider(oauth1, tools), signInRoutes(settings).callback(name), options, say);
    return;
  }
  const declared = settings.providers[name] ?? ({} as never);
  requireTenant(name, declared);
  const provider = await openProvider(declared, tools);
  if (options.client) {
    const call = options.call === undefined ? {} : { call: addressOf(settings, options.call) };
    await tryAsClient(provider, clientScopeOf(settings, name, options), { ...options, ...call }, say);
    return;
  }
  const { scope } = options;
  const begin: typeof beginSignIn = provider.host ? beginLaunch : beginSignIn;
  const opened =
    options.launch && (await awaitLaunch(provider, signInRoutes(settings).launch, options.launch, say));
  if (options.launch && !opened) return;
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
  try {
    if (!outcome) return;
    showOutcome(outcome, options);
    if (outcome.kind === "granted" && !options.json)
      for (const line of [...describeLaunch(provider, outcome), ...describeAbsent(provider, outcome)])
        console.log(line);
    if (outcome.kind === "granted" && provider.host) await showConfirmation(provider, outcome.grant, say);
    const sample = sampleOf(settings, name);
    const call = options.call ?? (sample && sample.api + sample.path);
    if (outcome.kind === "granted" && call !== undefined)
      await showGrantCall(provider, outcome.grant, addressOf(settings, call), say);
  } finally {
    keep(outcome && endingOf(outcome));
  }
}

function endingOf(outcome: Outcome): string {
  if (outcome.kind === "failed") return outcome.problem.code;
  return outcome.kind === "granted" ? "signed in" : outcome.kind;
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
  await showAnswer(url, await reaching(url, () => fetchWithGrant(provider, grant, url)), say);
}

/** What the host says of its own token, where it can be asked. */
async function showConfirmation(provider: Provider, grant: Grant, say: Say): Promise<void> {
  const said = await confirmToken(provider, grant);
  const { aud = "not told" } = said ?? {};
  say(
    `  ${"confirmed".padEnd(14)} ${said ? `by the host, for ${visible(String(aud))}` : "not: no introspection there"}`,
  );
}

/** In which context the host has opened the app, and what it did not grant. */
function describeLaunch({ host, scope }: Provider, { grant, identity }: Granted): readonly string[] {
  if (!host) return [];
  const read = readContext(host, grant.context ?? {}, grant.scope);
  const { fhirContext, own, needPatientBanner, smartStyleUrl, ...context } = read;
  const missing = missingScopes(scope, grant.scope).filter((each) => !each.startsWith("launch/"));
  const rows: readonly (readonly [string, unknown])[] = [
    ["host", host.base],
    ...Object.entries(context),
    [
      "banner",
      needPatientBanner === undefined ? "not told" : needPatientBanner ? "by this app" : "by the host",
    ],
    ["style", smartStyleUrl ?? "none"],
    ...(fhirContext.length > 0 ? [["fhirContext", JSON.stringify(fhirContext)] as const] : []),
    ...Object.entries(own),
    ["user", resolveUser(host, identity.claims) ?? "not told"],
    ...(missing.length > 0 ? [["not granted", missing.join(" ")] as const] : []),
  ];
  return rows.map(([field, value]) => `  ${field.padEnd(14)} ${visible(String(value))}`);
}

/** For a bug report: without secrets, and with nothing from elsewhere in it. */
function keepTrace(file: string, record: TraceRecord): void {
  const isData = file.endsWith(".json");
  const text = isData
    ? JSON.stringify({ kind: "trace", records: [record] }, undefined, 2)
    : traceDocument({ records: [record] });
  writeNewFile(file, text);
}

function showOutcome(outcome: Outcome, { json }: TryOptions): void {
  if (json) console.log(JSON.stringify(withoutTokens(outcome), undefined, 2));
  else describeOutcome(outcome);
  process.exitCode = outcome.kind === "granted" ? 0 : 1;
}

/** The same with OAuth 1.0a, which knows nothing but the browser. */
async function tryOAuth1(
  provider: OAuth1Provider,
  usual: string,
  options: TryOptions,
  say: Say,
): Promise<void> {
  const other = (["device", "client", "scope"] as const).find((name) => options[name] !== undefined);
  if (other !== undefined)
    throw new ProblemError("provider.other-protocol", { received: `--${other} with OAuth 1.0a` });
  const outcome = await tryInBrowser(options.redirectUri ?? usual, say, {
    mode: "query",
    begin: (redirectUri) => beginOAuth1SignIn(provider, { redirectUri }),
    finish: (attempt, callback) => finishOAuth1SignIn(provider, attempt, callback),
  });
  if (!outcome) return;
  showOutcome(outcome, options);
  if (outcome.kind === "granted" && options.call !== undefined) {
    const { accessToken: token, tokenSecret = "" } = outcome.grant;
    const request = { method: "GET", url: options.call, headers: new Headers() };
    const signed = await signOAuth1Request(provider, { token, tokenSecret }, request);
    const { headers, url } = signed;
    await showAnswer(url, await callApi(provider.tools.platform, url, { headers }), say);
  }
}

type Say = (text: string) => void;

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
  const callback = await waitForCallback(redirectUri, { state: attempt.state, mode: line.mode }, say, () => {
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

async function tryAsClient(provider: Provider, scope: string, options: TryOptions, say: Say): Promise<void> {
  const grant = await requestClientToken(provider, scope);
  if (options.json) console.log(JSON.stringify(grantWithoutTokens(grant), undefined, 2));
  else {
    console.log(`\n${pc.green("The app has a token of its own.")}`);
    for (const [field, value] of describeGrant(grant)) console.log(`  ${field.padEnd(14)} ${value}`);
  }
  if (options.call !== undefined) await showGrantCall(provider, grant, options.call, say);
}

/** RFC 8252 section 7.3: what the browser brings to the redirect URI; undefined when it was ended. */
function waitForCallback(
  redirectUri: string,
  { state, mode }: { readonly state: string; readonly mode: string },
  say: Say,
  ready: () => void,
): Promise<URLSearchParams | undefined> {
  const answer: Awaiting<URLSearchParams>["answer"] = async (request, response, url, end) => {
    // OAuth 2.0 Form Post Response Mode 1.0; and what came behind the # is posted from the page below.
    const parameters =
      request.method === "POST" ? new URLSearchParams(await readBody(request)) : url.searchParams;
    const received = new URLSearchParams(parameters.get("fragment") ?? parameters);
    const values = [...received.values()];
    // A signed answer has its state inside.
    if (!values.includes(state) && !(mode.endsWith(".jwt") && received.has("response"))) {
      if (mode.startsWith("fragment") && request.method === "GET" && values.length === 0) {
        response.setHeader("content-type", "text/html; charset=utf-8");
        response.end(fragmentPage);
        return;
      }
      // Whoever looks at the address, loads it ahead or opens an old tab brings no answer to this attempt.
      say(pc.dim(`  ${request.method ?? ""} ${url.pathname} without this attempt's state: still waiting`));
      response.writeHead(400).end("This is not the answer that is awaited. Go back to the terminal.");
      return;
    }
    response.end("That is all. Go back to the terminal.");
    end(received);
  };
  const interrupted = `\nNo answer came to ${redirectUri}. If the provider showed an error instead of coming back, it is about the request: tenonsaw check says what of it is not registered. If it came back elsewhere, register this address, or name the one that is: --redirect-uri.`;
  const instead = ", or name another address with --redirect-uri";
  return awaitBrowser(redirectUri, { answer, ready, interrupted, instead }, say);
}

/** Sends what came behind the # of the address, which a browser tells no server. */
const fragmentPage =
  "<!doctype html><title>Back to the terminal</title><form method=post><input type=hidden name=fragment></form><script>if(location.hash){document.forms[0].fragment.value=location.hash.slice(1);document.forms[0].submit()}else document.body.append('Nothing came back with this address. Go back to the terminal.')</script>";

/** As much of a body as an answer can have. */
async function readBody(request: IncomingMessage): Promise<string> {
  let text = "";
  for await (const chunk of request) {
    text += String(chunk);
    if (text.length > 256 * 1024) return "";
  }
  return text;
}

function describeOutcome(outcome: Outcome): void {
  if (outcome.kind === "declined")
    console.log(
      `\n${pc.yellow("Declined.")} The person said no, or the provider did not allow it: ${visible(outcome.said ?? "no more was said")}. For an app that is an answer.`,
    );
  else if (outcome.kind === "failed")
    console.log(`\n${pc.red("Not signed in.")} ${problemText(outcome.problem)}`);
  else {
    const { identity, grant, kept } = outcome;
    console.log(`\n${pc.green("Signed in.")}`);
    const rows: readonly (readonly [string, string])[] = [
      ["issuer", identity.issuer],
      ["subject", identity.subject],
      ["proof", identity.isProved ? "an ID token" : "none: the profile endpoint says so"],
      ...Object.entries(identity.profile).map(([field, value]) => [field, String(value)] as const),
      ...describeGrant(grant),
      ...Object.entries(kept).map(([field, value]) => [`callback ${field}`, value] as const),
    ];
    for (const [field, value] of rows) console.log(`  ${field.padEnd(14)} ${value}`);
  }
}

/** Name, e-mail address and picture that did not come: where they were looked for, and which scope was not asked for. */
function describeAbsent({ profile, scope }: Provider, { identity, grant }: Granted): readonly string[] {
  if (typeof profile === "function") return [];
  const asked = `${scope} ${grant.scope}`.split(" ");
  const members = Object.keys(identity.claims).map(visible).join(", ") || "none";
  return (["name", "email", "picture"] as const)
    .filter((field) => identity.profile[field] === undefined)
    .map((field) => {
      const pointers = profile[field];
      const usual = field === "email" ? "email" : "profile";
      const why =
        pointers === undefined && asked.includes("openid") && !asked.includes(usual)
          ? `scope ${usual} was not asked for: add it to \`scope\` of the provider`
          : `nothing that can be shown at ${[pointers ?? usualPointers[field]].flat().join(" or ")} of its claims (there were: ${members}): set \`profile.${field}\` to where it is, or the provider has none of this person`;
      return `  ${pc.yellow(`no ${field}`.padEnd(14))} ${why}`;
    });
}

/** OpenID Connect Core 1.0 section 5.1. */
const usualPointers = { name: "/name", email: "/email", picture: "/picture" };

function describeGrant(grant: Grant): readonly (readonly [string, string])[] {
  return [
    ["allows", grant.scope],
    ["expires", grant.expiresAt === undefined ? "not told" : `in ${grant.expiresAt - grant.obtainedAt} s`],
    ["refresh token", grant.refreshToken === undefined ? "none" : "yes"],
  ];
}

async function showAnswer(url: string, answer: Response, say: Say): Promise<void> {
  say(`\nGET ${url} → ${answer.status}\n${(await answer.text()).slice(0, 2000)}`);
  const advice = explainRefusal(answer.status, answer.headers.get("www-authenticate") ?? "");
  if (advice !== undefined) say(`\n${pc.yellow("Why")}  ${advice}`);
}

function withoutTokens(outcome: Outcome): object {
  if (outcome.kind !== "granted") return outcome;
  return { ...outcome, grant: grantWithoutTokens(outcome.grant) };
}

function grantWithoutTokens({ scope, obtainedAt, expiresAt, refreshToken }: Grant): object {
  return { scope, obtainedAt, expiresAt, hasRefreshToken: refreshToken !== undefined };
}

function paint(event: TraceEvent): string {
  const text = describeEvent(event);
  if (event.kind === "leg") {
    return [
      pc.cyan(text),
      ...describeMembers("sent", event.sent),
      ...describeMembers("answer", event.received),
    ].join("\n");
  }
  if (event.kind === "check") return event.verdict === "passed" ? pc.dim(text) : pc.red(text);
  return text;
}

/** What a leg carried, on one line that fits the terminal; secrets are fingerprints already. */
function describeMembers(name: string, members: Readonly<Record<string, string>>): readonly string[] {
  const text = Object.entries(members)
    .map(([member, value]) => `${member}=${value}`)
    .join("  ");
  const width = (process.stdout.columns || 100) - 15;
  return text === ""
    ? []
    : [`      ${name.padEnd(7)} ${text.length > width ? `${text.slice(0, width - 1)}…` : text}`];
}

function readLoopback(text: string): string {
  if (URL.canParse(text) && isLoopback(new URL(text).hostname)) return text;
  throw new InvalidArgumentError("It takes a loopback address, such as http://localhost:5173/try.");
}

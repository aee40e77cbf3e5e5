import { createServer } from "node:http";
import { Command, InvalidArgumentError } from "commander";
import pc from "picocolors";
import {
  beginSignIn,
  createPlatform,
  finishSignIn,
  openProvider,
  problemText,
  type Outcome,
  type Provider,
} from "tenonsaw";
import { isLoopback } from "tenonsaw/platform";
import { signInRoutes } from "tenonsaw/server";
import { readSettingsFile } from "tenonsaw/server/node";
import { describeEvent, type TraceEvent } from "tenonsaw/trace";
import { callApi } from "./call-api.js";
import { chooseProviders } from "./choose-providers.js";
import { explainRefusal } from "./explain-refusal.js";
import { withCommonOptions, type CommonOptions } from "./common-options.js";

interface TryOptions extends CommonOptions {
  readonly redirectUri?: string;
  readonly call?: string;
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
    .option("--call <url>", "then make one API call with the access token and show the answer")
    .addHelpText(
      "after",
      "\nExample:\n  tenonsaw try quayside --call http://localhost:4700/tides/today\n\nExit code: 0 signed in, 1 not signed in, 2 it could not be tried.",
    );
  return withCommonOptions(command).action(run);
}

async function run(name: string, options: TryOptions): Promise<void> {
  const { settings } = readSettingsFile(options.settings, options.env);
  chooseProviders(settings, name);
  const redirectUri = options.redirectUri ?? signInRoutes(settings).callback(name);
  if (!isLoopback(new URL(redirectUri).hostname)) {
    console.error(`${redirectUri} is not on this machine, so the browser cannot come back here.`);
    console.error(
      "Register a loopback address as well and name it: --redirect-uri http://localhost:5173/try",
    );
    process.exitCode = 2;
    return;
  }
  const say = (text: string) => {
    if (options.json) console.error(text);
    else console.log(text);
  };
  const trace = (event: TraceEvent) => {
    say(`  ${paint(event)}`);
  };
  const provider = await openProvider(settings.providers[name] ?? ({} as never), {
    platform: createPlatform(),
    trace,
  });
  const { url, attempt } = await beginSignIn(provider, { redirectUri });
  const callback = await waitForCallback(redirectUri, () => {
    say(
      `\n${pc.bold("Open this address in a browser and sign in:")}\n\n  ${url}\n\n${pc.dim("Waiting. Ctrl-C ends it.")}\n`,
    );
  });
  if (callback === undefined) return;
  const outcome = await finishSignIn(provider, attempt, callback);
  if (options.json) console.log(JSON.stringify(withoutTokens(outcome), undefined, 2));
  else describeOutcome(outcome);
  if (outcome.kind === "granted" && options.call !== undefined)
    await showCall(provider, outcome.grant.accessToken, options.call, say);
  process.exitCode = outcome.kind === "granted" ? 0 : 1;
}

/** RFC 8252 section 7.3: listens on the loopback address until the browser comes; undefined when it was ended. */
function waitForCallback(redirectUri: string, ready: () => void): Promise<string | undefined> {
  const { hostname, port, pathname } = new URL(redirectUri);
  return new Promise((resolve) => {
    const server = createServer((request, response) => {
      const url = new URL(request.url ?? "/", redirectUri);
      response.setHeader("content-type", "text/plain; charset=utf-8");
      response.setHeader("connection", "close");
      if (url.pathname !== pathname) {
        response.writeHead(404).end("Nothing here.");
        return;
      }
      response.end("That is all. Go back to the terminal.");
      end(url.href);
    });
    const interrupt = () => {
      process.exitCode = 1;
      end(undefined);
    };
    const end = (result: string | undefined) => {
      process.off("SIGINT", interrupt);
      server.close();
      resolve(result);
    };
    process.once("SIGINT", interrupt);
    server.once("error", (error: NodeJS.ErrnoException) => {
      const isTaken = error.code === "EADDRINUSE";
      console.error(
        isTaken
          ? `Port ${port} is in use. End the app that runs there for a moment, or name another address with --redirect-uri.`
          : error.message,
      );
      process.exitCode = 2;
      end(undefined);
    });
    server.listen(Number(port) || 80, hostname.replace(/^\[|\]$/g, ""), ready);
  });
}

function describeOutcome(outcome: Outcome): void {
  if (outcome.kind === "declined")
    console.log(`\n${pc.yellow("Declined.")} The person said no; for an app that is an answer.`);
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
      ["allows", grant.scope],
      ["expires", grant.expiresAt === undefined ? "not told" : `in ${grant.expiresAt - grant.obtainedAt} s`],
      ["refresh token", grant.refreshToken === undefined ? "none" : "yes"],
      ...Object.entries(kept).map(([field, value]) => [`callback ${field}`, value] as const),
    ];
    for (const [field, value] of rows) console.log(`  ${field.padEnd(14)} ${value}`);
  }
}

async function showCall(
  provider: Provider,
  accessToken: string,
  url: string,
  say: (text: string) => void,
): Promise<void> {
  const { platform } = provider.tools;
  const answer = await callApi(platform, url, { headers: { authorization: `Bearer ${accessToken}` } });
  say(`\nGET ${url} → ${answer.status}\n${(await answer.text()).slice(0, 2000)}`);
  const advice = explainRefusal(answer.status, answer.headers.get("www-authenticate") ?? "");
  if (advice !== undefined) say(`\n${pc.yellow("Why")}  ${advice}`);
}

function withoutTokens(outcome: Outcome): object {
  if (outcome.kind !== "granted") return outcome;
  const { scope, obtainedAt, expiresAt, refreshToken } = outcome.grant;
  return { ...outcome, grant: { scope, obtainedAt, expiresAt, hasRefreshToken: refreshToken !== undefined } };
}

function paint(event: TraceEvent): string {
  const text = describeEvent(event);
  if (event.kind === "leg") return pc.cyan(text);
  if (event.kind === "check") return event.verdict === "passed" ? pc.dim(text) : pc.red(text);
  return text;
}

function readLoopback(text: string): string {
  if (URL.canParse(text) && isLoopback(new URL(text).hostname)) return text;
  throw new InvalidArgumentError("It takes a loopback address, such as http://localhost:5173/try.");
}

import { Command, InvalidArgumentError } from "commander";
import pc from "picocolors";
import { createPlatform, openProvider, ProblemError, requestClientToken } from "tenonsaw";
import { readSettingsFile } from "tenonsaw/server/node";
import { explainRefusal } from "./explain-refusal.js";
import { callApi } from "./call-api.js";
import { withCommonOptions, type CommonOptions } from "./common-options.js";

interface CallOptions extends CommonOptions {
  readonly method: string;
  readonly header: readonly string[];
  readonly body?: string;
}

export function callCommand(): Command {
  const command = new Command("call")
    .description(
      "Call an API as the app itself, with client credentials, and show request and answer without the token.",
    )
    .argument("<api>", "name of an API in the settings; it needs a clientScope")
    .argument("[path]", "path at the API's origin", "/")
    .option("--method <method>", "HTTP method", "GET")
    .option("--header <header>", "a header, as in 'name: value' (may be repeated)", collectHeader, [])
    .option("--body <text>", "body of the request")
    .addHelpText(
      "after",
      "\nExample:\n  tenonsaw call slipway /status\n\nExit code: 0 the API answered with success, 1 it did not, 2 it could not be called.",
    );
  return withCommonOptions(command).action(run);
}

async function run(name: string, path: string, options: CallOptions): Promise<void> {
  const { settings } = readSettingsFile(options.settings, options.env);
  const api = Object.hasOwn(settings.apis, name) ? settings.apis[name] : undefined;
  if (!api) {
    throw new ProblemError("connection.api-unknown", {
      received: name,
      expected: `one of ${Object.keys(settings.apis).join(", ") || "(none)"}`,
    });
  }
  if (api.clientScope === undefined)
    throw new ProblemError("connection.no-client-scope", { received: `the API ${name} without one` });
  const url = new URL(path, api.origin);
  if (url.origin !== api.origin) {
    throw new ProblemError("connection.other-origin", {
      received: path,
      expected: `a path at ${api.origin}`,
    });
  }
  const platform = createPlatform();
  const provider = await openProvider(settings.providers[api.provider] ?? ({} as never), { platform });
  const { accessToken, scope } = await requestClientToken(provider, api.clientScope);
  const headers = new Headers(
    options.header.map((line) => {
      const at = line.indexOf(":");
      return [line.slice(0, at).trim(), line.slice(at + 1).trim()] as [string, string];
    }),
  );
  headers.set("authorization", `Bearer ${accessToken}`);
  const answer = await callApi(platform, url.href, {
    method: options.method,
    headers,
    ...(options.body !== undefined && { body: options.body }),
  });
  headers.set("authorization", `Bearer (hidden, allows ${scope})`);
  const body = await answer.text();
  if (options.json) {
    console.log(
      JSON.stringify(
        { url: url.href, status: answer.status, headers: Object.fromEntries(answer.headers), body },
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
        pc.bold(`${options.method} ${url.href}`),
        ...sent,
        "",
        pc.bold(`Answer ${status}`),
        ...received,
        "",
        body,
      ].join("\n"),
    );
    const advice = explainRefusal(answer.status, answer.headers.get("www-authenticate") ?? "");
    if (advice !== undefined) console.log(`\n${pc.yellow("Why")}  ${advice}`);
  }
  process.exitCode = answer.ok ? 0 : 1;
}

function collectHeader(line: string, before: readonly string[]): readonly string[] {
  if (/^[\w-]+\s*:/.test(line)) return [...before, line];
  throw new InvalidArgumentError("It takes a name, a colon and a value.");
}

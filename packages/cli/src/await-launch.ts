import pc from "picocolors";
import type { Provider } from "tenonsaw";
import { findHost, requireLaunchValue } from "tenonsaw/launch";
import { awaitBrowser } from "./await-browser.js";

/** The host has opened the app: its value, and the way to send the waiting browser on. */
export interface Opened {
  readonly launch: string;
  /** Absent where there is no browser yet. */
  readonly goOn?: (url: string) => void;
}

/**
 * Waits at the app's launch URL until the host opens it, or takes the address that it has opened already. Undefined where it was
 * ended.
 *
 * @throws launch.host-unknown, launch.parameters-refused
 */
export async function awaitLaunch(
  { host }: Provider,
  launchUrl: string,
  address: true | string,
  say: (text: string) => void,
): Promise<Opened | undefined> {
  const base = host?.base ?? "";
  const read = (url: URL) => {
    findHost([{ name: "", issuer: base }], url.searchParams.get("iss") ?? undefined);
    const launch = url.searchParams.get("launch") ?? "";
    requireLaunchValue(launch);
    return launch;
  };
  if (address !== true) return { launch: read(new URL(address, launchUrl)) };
  const come = await awaitBrowser<{ readonly opened: Opened } | { readonly problem: unknown }>(
    launchUrl,
    {
      answer: (_request, response, url, end) => {
        try {
          const launch = read(url);
          const goOn = (to: string) => void response.writeHead(303, { location: to }).end();
          end({ opened: { launch, goOn } });
        } catch (problem) {
          response.writeHead(400).end("This is no launch that is awaited. Go back to the terminal.");
          end({ problem });
        }
        return Promise.resolve();
      },
      ready: () => {
        say(
          `\n${pc.bold("Open the app from the host now.")} It is awaited at\n\n  ${launchUrl}\n\n${pc.dim("Waiting. Ctrl-C ends it.")}\n`,
        );
      },
      interrupted: `\nNobody came to ${launchUrl}. Register it with the host as the launch URL: tenonsaw sheet.`,
    },
    say,
  );
  if (come && "problem" in come) throw come.problem;
  return come?.opened;
}

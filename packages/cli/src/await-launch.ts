import { createServer } from "node:http";
import pc from "picocolors";
import type { Provider } from "tenonsaw";
import { findHost, requireLaunchValue } from "tenonsaw/launch";

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
  const { port, hostname, pathname } = new URL(launchUrl);
  return new Promise((resolve, reject) => {
    const server = createServer((request, response) => {
      const url = new URL(request.url ?? "/", launchUrl);
      response.setHeader("connection", "close");
      if (url.pathname !== pathname) {
        response.writeHead(404).end("Nothing here.");
        return;
      }
      try {
        const launch = read(url);
        end({
          launch,
          goOn: (to) => {
            response.writeHead(303, { location: to }).end();
          },
        });
      } catch (error) {
        response.writeHead(400).end("This is no launch that is awaited. Go back to the terminal.");
        server.close();
        // eslint-disable-next-line @typescript-eslint/prefer-promise-reject-errors -- a problem, as it was thrown
        reject(error);
      }
    });
    const interrupt = () => {
      say(`\nNobody came to ${launchUrl}. Register it with the host as the launch URL: tenonsaw sheet.`);
      end(undefined);
    };
    const end = (result: Opened | undefined) => {
      process.off("SIGINT", interrupt);
      server.close();
      resolve(result);
    };
    process.once("SIGINT", interrupt);
    server.once("error", (error: NodeJS.ErrnoException) => {
      const isTaken = error.code === "EADDRINUSE";
      console.error(
        isTaken ? `Port ${port} is in use. End the app that runs there for a moment.` : error.message,
      );
      end(undefined);
    });
    server.listen(Number(port) || 80, hostname.replace(/^\[|\]$/g, ""), () => {
      say(
        `\n${pc.bold("Open the app from the host now.")} It is awaited at\n\n  ${launchUrl}\n\n${pc.dim("Waiting. Ctrl-C ends it.")}\n`,
      );
    });
  });
}

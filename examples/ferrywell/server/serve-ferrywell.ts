import { createServer, type Server } from "node:http";
import { readFile } from "node:fs/promises";
import type { AddressInfo } from "node:net";
import { fileURLToPath } from "node:url";
import { createServer as createVite, type ViteDevServer } from "vite";
import { nodeListener } from "tenonsaw/node";
import { defaultClient, PortInUseError, type Client } from "tenonsaw-practice";
import { createApp } from "./app.js";
import { openHistory } from "./history.js";
import { openSignIn, type FerrywellSettings } from "./sign-in.js";

const pagesFolder = fileURLToPath(new URL("../../pages/", import.meta.url));
const browserFolder = fileURLToPath(new URL("..", import.meta.resolve("tenonsaw/browser")));

export interface Ferrywell {
  readonly origin: string;
  stop(): Promise<void>;
}

/** What a process of Ferrywell's has to know. */
export interface FerrywellPlace extends Omit<FerrywellSettings, "log" | "development" | "onConnection"> {
  readonly number: number;
  /** File of the history that all processes write. */
  readonly history: string;
}

/**
 * Serves Ferrywell: Vite brings the pages, the library answers the sign-in routes, the app the rest.
 *
 * @param port 0 takes a free one
 * @throws PortInUseError, and what openSignIn throws
 */
export async function serveFerrywell(
  port: number,
  settings: Omit<FerrywellSettings, "origin" | "onConnection"> &
    Partial<Pick<FerrywellPlace, "history" | "number">> & {
      /** Where browsers see it, if that is not where it listens. */
      readonly origin?: string;
    },
): Promise<Ferrywell> {
  const server = createServer();
  await listen(server, port);
  const own = `http://localhost:${(server.address() as AddressInfo).port}`;
  const { origin = own } = settings;
  const history = openHistory(settings.history ?? ":memory:", settings.number ?? 1);
  const vite = await createVite({
    root: pagesFolder,
    appType: "custom",
    logLevel: "error",
    configFile: false,
    // The pages and what they import, and no other file of this machine.
    server: {
      middlewareMode: true,
      hmr: false,
      ws: false,
      fs: { strict: true, allow: [pagesFolder, browserFolder] },
    },
  });
  const { signIn, store } = await openSignIn({ ...settings, origin, onConnection: history.note });
  const app = createApp(signIn, history, (path) => renderPage(vite, path));
  const listener = nodeListener(signIn, app.fetch);
  server.on("request", (incoming, outgoing) => {
    // Vite answers for its own modules and styles; whatever it does not know is the app's.
    vite.middlewares(incoming, outgoing, () => {
      listener(incoming, outgoing);
    });
  });
  return {
    origin: own,
    async stop() {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
      await vite.close();
      await store.close();
      history.close();
    },
  };
}

async function renderPage(vite: ViteDevServer, path: string): Promise<string> {
  const page = await vite.transformIndexHtml(path, await readFile(`${pagesFolder}index.html`, "utf8"));
  // Nobody edits the pages of a demo: nothing has to listen for that.
  return page.replace(/<script type="module" src="\/@vite\/client"><\/script>\s*/, "");
}

export function listen(server: Server, port: number): Promise<void> {
  return new Promise((resolve, reject) => {
    server.once("error", (error: NodeJS.ErrnoException) => {
      reject(error.code === "EADDRINUSE" ? new PortInUseError(port, error) : error);
    });
    server.listen(port, "localhost", resolve);
  });
}

/** What Ferrywell registers with each provider. */
export function registration(origin: string): Client {
  return {
    ...defaultClient,
    redirectUris: ["quayside", "harbour", "lockgate", "archive", "ledgerhouse"].map(
      (name) => `${origin}/sign-in/from/${name}`,
    ),
    postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
  };
}

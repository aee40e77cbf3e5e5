import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { createPlatform, limits } from "tenonsaw/platform";
import { createSignIn, passOn, type SignIn, type SignInSettings, type Store } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";
import { createMemoryStore } from "tenonsaw/stores/memory";
import type { TraceEvent } from "tenonsaw/trace";
import { defaultClient, type Practice } from "tenonsaw-practice";
import { sealingKey } from "../../scripts/sealing-key.mjs";

export interface App {
  readonly origin: string;
  readonly signIn: SignIn;
  readonly store: Store;
  readonly events: TraceEvent[];
  /** Seconds by which the app's clock is ahead. */
  aheadSeconds: number;
  stop(): Promise<void>;
}

type Changes = Partial<SignInSettings> & {
  readonly timeoutSeconds?: number;
};

/** The platform, but that functions of the settings are waited for no longer than a tenth of a second. */
export function hurried() {
  const { wait } = createPlatform();
  return createPlatform({
    print: () => undefined,
    wait: (seconds, signal) => wait(seconds === limits.hookSeconds ? 0.1 : seconds, signal),
  });
}

/** A small app on a free port, with the practice provider as its provider and every answer a line of JSON. */
export async function startApp(
  practice: Practice,
  changes: Changes = {},
  store = createMemoryStore(),
): Promise<App> {
  const { timeoutSeconds = 5, ...settings } = changes;
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
  const origin = `http://localhost:${(server.address() as AddressInfo).port}`;
  const events: TraceEvent[] = [];
  // The clock is read before there is an app.
  let ahead = () => 0;
  const app: App = {
    origin,
    store,
    events,
    aheadSeconds: 0,
    signIn: await createSignIn({
      origin,
      keys: sealingKey,
      store,
      providers: {
        quayside: {
          title: "Quayside ID",
          issuer: practice.issuer,
          clientId: practice.client.clientId,
          clientSecret: practice.client.clientSecret!,
          scope: "openid profile email offline_access tides.read",
          timeoutSeconds,
        },
      },
      apis: {
        tidebook: { provider: "quayside", origin: practice.tidebook },
        slipway: { provider: "quayside", origin: practice.slipway, clientScope: "slipway.status" },
      },
      development: true,
      trace: (event) => events.push(event),
      platform: createPlatform({
        now: () => Date.now() / 1000 + ahead(),
        monotonic: () => performance.now() / 1000 + ahead(),
        print: () => undefined,
      }),
      ...settings,
    }),
    async stop() {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
      await store.close();
    },
  };
  ahead = () => app.aheadSeconds;
  practice.register({
    ...defaultClient,
    redirectUris: [`${origin}/sign-in/from/quayside`],
    postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
  });
  server.on(
    "request",
    nodeListener(app.signIn, async (request) => {
      const { pathname } = new URL(request.url);
      const session = await app.signIn.session(request);
      if (pathname === "/tides") {
        if (!session) return app.signIn.ask(request);
        return passOn(await session.fetch("tidebook", "/tides/today"));
      }
      return Response.json({ person: session?.person, connection: await session?.connection() });
    }),
  );
  return app;
}

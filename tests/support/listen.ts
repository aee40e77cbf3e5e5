import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import type { SignIn } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";

export interface Listening {
  readonly origin: string;
  stop(): Promise<void>;
}

type Handler = (request: Request) => Response | Promise<Response>;

/** Serves what `make` makes on a free port; it is told its origin first. */
export async function listenFor(
  make: (origin: string) => Promise<{ readonly signIn: SignIn; readonly app: Handler }>,
): Promise<Listening> {
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
  const origin = `http://localhost:${(server.address() as AddressInfo).port}`;
  const { signIn, app } = await make(origin);
  server.on("request", nodeListener(signIn, app));
  return {
    origin,
    async stop() {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
    },
  };
}

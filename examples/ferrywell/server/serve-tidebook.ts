import { createServer } from "node:http";
import { getRequestListener } from "@hono/node-server";
import { listen } from "./serve-ferrywell.js";

/**
 * Serves Tidebook as examples/own-api has it, behind a guard, in the place of the practice's own.
 *
 * @param pages origins whose pages may call it by themselves
 * @throws PortInUseError
 */
export async function serveTidebook(
  port: number,
  issuer: string,
  log?: (line: string) => void,
  pages: readonly string[] = [],
): Promise<{ readonly stop: () => Promise<void> }> {
  const source = new URL("../../../own-api/tidebook.js", import.meta.url).href;
  const { createTidebook } = (await import(source)) as {
    createTidebook: (
      settings: object,
    ) => Promise<{ fetch: (request: Request) => Response | Promise<Response> }>;
  };
  const tidebook = await createTidebook({
    issuer,
    audience: `http://localhost:${port}`,
    pageOrigins: pages,
    development: true,
    ...(log && {
      onProblem: ({ problem, during }: Refused) => log(`Tidebook refused ${during}: ${problem.code}`),
    }),
  });
  const answer = getRequestListener(tidebook.fetch);
  const server = createServer((incoming, outgoing) => void answer(incoming, outgoing));
  await listen(server, port);
  return {
    async stop() {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
    },
  };
}

interface Refused {
  readonly problem: { readonly code: string };
  readonly during: string;
}

import type { RequestListener } from "node:http";
import { getRequestListener } from "@hono/node-server";
import { isProblem } from "../problem/index.js";
import type { SignIn } from "./create-sign-in.js";

/**
 * A listener for node:http (and https): the sign-in routes are answered, everything else goes to `app`. A problem
 * that `app` lets through becomes a page.
 */
export function nodeListener(
  signIn: SignIn,
  app: (request: Request) => Response | Promise<Response>,
): RequestListener {
  const listener = getRequestListener(
    async (request) => {
      try {
        return (await signIn.handle(request)) ?? (await app(request));
      } catch (error) {
        if (!isProblem(error)) throw error;
        return signIn.explain(error);
      }
    },
    { overrideGlobalObjects: false },
  );
  return (incoming, outgoing) => void listener(incoming, outgoing);
}

import { readFileSync } from "node:fs";
import type { RequestListener } from "node:http";
import { getRequestListener } from "@hono/node-server";
import { fail, isProblem } from "../../problem/index.js";
import type { ChosenSettings } from "../settings/choose-environment.js";
import type { SignIn } from "../sign-in.js";
import { noteBodyRead } from "../door/front-door.js";
import { notePeer } from "../door/public-origin.js";
import { readSettingsText } from "../settings/settings-text.js";

/**
 * A listener for node:http (and https): the sign-in routes are answered, everything else goes to `app`. A problem
 * that `app` lets through becomes a page.
 */
export function nodeListener(
  signIn: SignIn,
  app: (request: Request) => Response | Promise<Response>,
): RequestListener {
  const listener = getRequestListener(
    async (request, { incoming }) => {
      notePeer(request, incoming.socket.remoteAddress);
      // A middleware that has parsed the body leaves nothing of it.
      if (incoming.readableDidRead) noteBodyRead(request);
      try {
        return (await signIn.handle(request)) ?? (await app(request));
      } catch (error) {
        if (!isProblem(error)) throw error;
        return signIn.explain(error, request);
      }
    },
    { overrideGlobalObjects: false },
  );
  return (incoming, outgoing) => {
    outgoing.once("finish", () => {
      // Whoever was refused for what they send, and sends on, has had the time to read why.
      if ([408, 413].includes(outgoing.statusCode) && !incoming.complete)
        setTimeout(() => incoming.socket.destroy(), partingMilliseconds).unref();
    });
    void listener(incoming, outgoing);
  };
}

const partingMilliseconds = 100;

/**
 * Reads a settings file for createSignIn: `createSignIn({ ...readSettingsFile("tenonsaw.config.json").settings, store })`.
 *
 * @param environment which of the environments; default: TENONSAW_ENV, then `environment` in the file
 * @throws provider.settings-file-unreadable, provider.settings-refused with file, line and column
 */
export function readSettingsFile(path: string, environment = process.env["TENONSAW_ENV"]): ChosenSettings {
  return readSettingsText(readText(path), path, environment);
}

function readText(path: string): string {
  try {
    return readFileSync(path, "utf8");
  } catch (error) {
    const { code = "unreadable" } = error as NodeJS.ErrnoException;
    fail("provider.settings-file-unreadable", { received: `${path}: ${code}`, cause: error });
  }
}

export { createCertifiedFetch, type ClientCertificate } from "./node-certificate.js";

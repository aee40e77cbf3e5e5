import { readFileSync } from "node:fs";
import type { IncomingMessage, ServerResponse } from "node:http";
import { fail } from "../../problem/index.js";
import { readSettingsText } from "../settings/settings-text.js";
import type { ChosenSettings } from "../settings/choose-environment.js";
import type { SignIn } from "../sign-in.js";
import { requireHandler, requireOwnAnswer } from "../../trace/index.js";
import { toRequest, writeResponse } from "./bridge.js";
import { requireServed } from "./served.js";

/**
 * A listener for node:http (and https): the sign-in routes are answered, everything else goes to `app`. What `app`
 * throws becomes a page and a line in the log.
 */
export function nodeListener(
  signIn: Pick<SignIn, "handle" | "explain">,
  app: (request: Request) => Response | Promise<Response>,
): (incoming: IncomingMessage, outgoing: ServerResponse) => void {
  requireServed(signIn);
  requireHandler(app);
  const answer = async (incoming: IncomingMessage, outgoing: ServerResponse): Promise<void> => {
    let request: Request | undefined;
    try {
      request = toRequest(incoming, outgoing, { takeBody: true });
      const answered = (await signIn.handle(request)) ?? requireOwnAnswer(await app(request));
      await writeResponse(outgoing, answered);
    } catch (error) {
      const explained = signIn.explain(error, request);
      if (!outgoing.headersSent) await writeResponse(outgoing, explained);
    }
  };
  return (incoming, outgoing) => {
    answer(incoming, outgoing).catch(() => {
      if (!outgoing.headersSent) outgoing.writeHead(500);
      outgoing.end();
    });
  };
}

/**
 * Reads a settings file for createSignIn: `createSignIn({ ...readSettingsFile("tenonsaw.config.json").settings, store })`.
 *
 * @param environment which of the environments; default: TENONSAW_ENV, then `environment` in the file
 * @throws provider.settings-file-unreadable, provider.settings-refused with file, line and column
 */
export function readSettingsFile(path: string, environment?: string): ChosenSettings {
  const [name, saidBy] =
    environment === undefined
      ? [process.env["TENONSAW_ENV"], "the environment variable TENONSAW_ENV"]
      : [environment, "what was asked for"];
  return readSettingsText(readText(path), path, name, saidBy);
}

function readText(path: string): string {
  try {
    return readFileSync(path, "utf8");
  } catch (error) {
    const { code = "unreadable" } = error as NodeJS.ErrnoException;
    const because = code in reasons ? reasons[code as keyof typeof reasons] : undefined;
    fail("provider.settings-file-unreadable", { received: `${path}: ${code}`, because, cause: error });
  }
}

const reasons = { ENOENT: "missing", EACCES: "not-allowed", EISDIR: "folder" } as const;

export { guardForNode, type NodeGuard } from "./guard-parts.js";
export { toRequest, writeResponse, type Incoming } from "./bridge.js";
export { createCertifiedFetch, type ClientCertificate } from "./node-certificate.js";
export { createPipedFetch } from "./piped-fetch.js";

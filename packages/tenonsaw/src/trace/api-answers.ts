import { fail } from "../problem/index.js";
import { requireResponse } from "./handed-over.js";

const ofApis = new WeakSet<Response>();

/** What JSON has in place of `{}`, which says nothing: whoever looks at the page reads why there is nothing else on it. */
const asJson = (text: string) => ({ value: () => text, configurable: true });
const unread = asJson("An answer of fetch, and not what is in it: await answer.json(), or passOn(answer).");
const unawaited = asJson("A promise of an answer: put `await` before the call.");

/** An API's answer to a call for a person, or for the app: with what is between that API and this app. */
export function noteApiAnswer(answer: Response): Response {
  ofApis.add(answer);
  return Object.defineProperty(answer, "toJSON", unread);
}

/** A call, whose promise says what it is where nobody waits for it. */
export function noteCall(call: Promise<Response>): Promise<Response> {
  return Object.defineProperty(call, "toJSON", unawaited);
}

/**
 * What an app's own handler answers with. An API's answer as it came has that API's cookies; and what `fetch` has got
 * compressed says so still, and is not any more.
 *
 * @throws server.not-a-response
 */
export function requireOwnAnswer(given: unknown): Response {
  const response = requireResponse(given);
  // Fetch Standard, 5.5: only what `fetch` has made has an address.
  const isUnpacked = response.url && response.headers.has("content-encoding");
  if (ofApis.has(response) || isUnpacked)
    fail("server.not-a-response", { received: "an answer of fetch, as it came", because: "as-it-came" });
  return response;
}

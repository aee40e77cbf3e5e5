import { limits } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import { requireRequest } from "./handed-over.js";
import type { Tools } from "./tools.js";

const readBefore = new WeakSet<Request>();

/**
 * Says that something before this library has read a request's body; adapters call it, as nodeListener does.
 *
 * @throws server.not-a-request
 */
export function noteBodyRead(request: Request): void {
  requireRequest(request);
  readBefore.add(request);
}

/**
 * The form that a request carries: at most so many bytes, within `limits.bodySeconds`. What is longer is not read to its
 * end, or at all where it says so beforehand.
 *
 * @param longest in bytes
 * @throws server.body-too-large, server.request-too-slow, server.body-read-before, server.body-broken, server.body-no-form
 */
export async function readForm(
  { platform }: Pick<Tools, "platform">,
  request: Request,
  longest: number,
): Promise<URLSearchParams> {
  if (request.bodyUsed || readBefore.has(request))
    fail("server.body-read-before", { received: `a ${request.method} whose body is gone` });
  const tooLarge = (received: string): never =>
    fail("server.body-too-large", { received, expected: `a body of at most ${longest} bytes` });
  const stated = request.headers.get("content-length") ?? "";
  if (/^\d+$/.test(stated) && Number(stated) > longest) tooLarge(`a body of ${stated} bytes`);
  const reader = request.body?.getReader();
  if (!reader) return new URLSearchParams();
  const over = platform.deadline(limits.bodySeconds);
  const late = new Promise<"late">((resolve) => {
    over.addEventListener("abort", () => resolve("late"), { once: true });
  });
  const decoder = new TextDecoder();
  let [text, length] = ["", 0];
  for (;;) {
    const part = await Promise.race([late, reader.read().catch(() => "broken" as const)]);
    // Not cancelled: that would close the connection before the answer is through it.
    if (part === "late") return fail("server.request-too-slow", { received: `${length} bytes` });
    if (part === "broken") return fail("server.body-broken", { received: `${length} bytes and no end` });
    if (part.done) return readFields(request, text + decoder.decode());
    const value = part.value as Uint8Array;
    length += value.byteLength;
    if (length > longest) tooLarge(`more than ${longest} bytes`);
    text += decoder.decode(value, { stream: true });
  }
}

/** A form in another form has no field that could be read, and whatever it asks for would be passed over (WHATWG HTML 4.10.21.8). */
function readFields(request: Request, text: string): URLSearchParams {
  const type = (request.headers.get("content-type") ?? formType).split(";", 1)[0] ?? "";
  if (text !== "" && type.trim().toLowerCase() !== formType)
    fail("server.body-no-form", { received: `${text.length} characters of ${quoted(type, 60)}` });
  return new URLSearchParams(text);
}

const formType = "application/x-www-form-urlencoded";

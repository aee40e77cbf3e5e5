import { fail, quoted } from "../problem/index.js";

/** RFC 9110 section 9.1, and what fetch sends none of (Fetch Standard 2.2.1). */
const isMethod = (method: unknown) =>
  typeof method === "string" &&
  /^[\w!#$%&'*+.^`|~-]+$/.test(method) &&
  !/^(?:connect|trace|track)$/i.test(method);

/**
 * What `fetch` would send as it came: left out, a path is `/undefined`, and an object `[object Object]`; and what it would
 * not send at all, which looks like an API that does not answer.
 *
 * @throws connection.other-origin where there is no path, connection.body-unusable, connection.call-unusable
 */
export function requireCall(path: unknown, { body, method = "GET", headers }: RequestInit = {}): void {
  if (typeof path !== "string")
    fail("connection.other-origin", {
      received: path === undefined ? "nothing" : typeof path,
      because: "no-path",
    });
  if (!isMethod(method)) fail("connection.call-unusable", { received: `the method ${quoted(method, 40)}` });
  if (headers !== undefined && !(headers instanceof Headers)) requireHeaders(headers);
  if (body === undefined || body === null) return;
  if (/^(?:get|head)$/i.test(method))
    fail("connection.body-unusable", { received: `${method} with a body`, because: "without-method" });
  if (body instanceof ReadableStream && body.locked)
    fail("connection.body-unusable", { received: "a stream that is read", because: "read-already" });
  if (typeof body !== "object") return;
  const made: unknown = Object.getPrototypeOf(body);
  if (made === Object.prototype || Array.isArray(body))
    fail("connection.body-unusable", { received: Array.isArray(body) ? "a list" : "an object" });
}

/** What a header holds may be a secret: its name is said, and nothing of what the engine says of its value. */
function requireHeaders(headers: unknown): void {
  if (areHeaders(headers)) return;
  const given = typeof headers === "object" && headers !== null ? headers : {};
  const pairs = Symbol.iterator in given ? [...(given as Iterable<string[]>)] : Object.entries(given);
  const found = pairs.find(([name = "", value = ""]) => !areHeaders([[name, value]]));
  fail("connection.call-unusable", {
    received: found === undefined ? "headers that are none" : `the header ${quoted(found[0], 40)}`,
  });
}

function areHeaders(headers: unknown): boolean {
  try {
    return new Headers(headers as HeadersInit) instanceof Headers;
  } catch {
    return false;
  }
}

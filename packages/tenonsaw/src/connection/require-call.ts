import { fail, quoted, type CauseOf } from "../problem/index.js";

/** RFC 9110 section 9.1, and what fetch sends none of (Fetch Standard 2.2.1). */
const isMethod = (method: unknown) =>
  typeof method === "string" &&
  /^[\w!#$%&'*+.^`|~-]+$/.test(method) &&
  !/^(?:connect|trace|track)$/i.test(method);

const refuse = (received: string, because?: CauseOf<"connection.call-unusable">) =>
  fail("connection.call-unusable", { received, because });

/** What other ways to call a server have a member for, and `fetch` passes over. */
const habits = /^(?:json|data|form|query|params|searchParams|timeout\w*)$/;

/**
 * What `fetch` would send as it came: left out, a path is `/undefined`, and an object `[object Object]`; what it would not send
 * at all, which looks like an API that does not answer; names that it would pass over, such as one that was to
 * be `account`; and an Authorization in whose place the token goes.
 *
 * @throws connection.other-origin where there is no path, connection.body-unusable, connection.call-unusable
 */
export function requireCall(path: unknown, init: unknown = {}): void {
  if (typeof path !== "string")
    fail("connection.other-origin", {
      received: path === undefined ? "nothing" : typeof path,
      because: path === undefined ? "no-path" : "not-text",
    });
  if (typeof init !== "object" || init === null) refuse(`${String(init)} after the path`, "options");
  const { body, method = "GET", headers } = init as RequestInit;
  const misspelt = Object.keys(init as object).find((name) =>
    /^(?!account$)ac+ou?n?t|connection/i.test(name),
  );
  if (misspelt !== undefined) refuse(`the member ${quoted(misspelt, 40)}`, "account");
  const habit = Object.keys(init as object).find((name) => habits.test(name));
  if (habit !== undefined) refuse(`the member ${quoted(habit, 40)}`, "habit");
  if (!isMethod(method)) refuse(`the method ${quoted(method, 40)}`);
  const given = headers === undefined || headers instanceof Headers ? headers : readHeaders(headers);
  if (given?.has("authorization") === true) refuse('the header "authorization"', "authorization");
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

/**
 * The same on a server, and what `fetch` would refuse as it sends it, which then looks like an API that does not answer; a page's
 * own refuses it at once.
 *
 * @throws as requireCall
 */
export function requireServerCall(path: unknown, init: object = {}): void {
  requireCall(path, init);
  const {
    method: _m,
    headers: _h,
    body: _b,
    account: _a,
    signal,
    ...more
  }: RequestInit & { account?: unknown } = init;
  // A Request follows each signal it is given, for as long as that lives.
  if (signal && !("aborted" in Object(signal))) refuse('the member "signal"', "options");
  for (const [name, value] of Object.entries<unknown>(more))
    if (!isTaken(() => new Request("http://localhost", { [name]: value })))
      refuse(`the member ${quoted(name, 40)}`, "options");
}

/** What a header holds may be a secret: its name is said, and nothing of what the engine says of its value. */
function readHeaders(headers: HeadersInit): Headers {
  try {
    return new Headers(headers);
  } catch {
    return refuseHeaders(headers);
  }
}

function refuseHeaders(headers: unknown): never {
  const given = typeof headers === "object" && headers !== null ? headers : {};
  const pairs = Symbol.iterator in given ? [...(given as Iterable<string[]>)] : Object.entries(given);
  const found = pairs.find(([name = "", value = ""]) => !areHeaders([[name, value]]));
  return refuse(found === undefined ? "headers that are none" : `the header ${quoted(found[0], 40)}`);
}

const areHeaders = (headers: HeadersInit) => isTaken(() => new Headers(headers));

function isTaken(make: () => object): boolean {
  try {
    return make() instanceof Object;
  } catch {
    return false;
  }
}

import { fail, ProblemError, quoted } from "../problem/index.js";
import { shapeOf } from "./shape-of.js";

/** What is wrong with what an app has handed over as a request: a framework's own object, most of the time. */
export function unfitRequest(request: unknown): ProblemError | undefined {
  const { headers, url } = (request ?? {}) as {
    readonly headers?: { get?: unknown };
    readonly url?: unknown;
  };
  if (typeof headers?.get === "function" && typeof url === "string") return undefined;
  return new ProblemError("server.not-a-request", { received: kindOf(request) });
}

/**
 * A Request as the web has it, and none of a framework's own.
 *
 * @throws server.not-a-request
 */
export function requireRequest(request: unknown): void {
  const unfit = unfitRequest(request);
  if (unfit) throw unfit;
}

/**
 * A Response whose body is still in it.
 *
 * @throws server.not-a-response
 */
export function requireResponse(given: unknown): Response {
  const { status, headers } = (given ?? {}) as {
    readonly status?: unknown;
    readonly headers?: { get?: unknown };
  };
  if (typeof status !== "number" || typeof headers?.get !== "function") {
    const isPromise = given instanceof Promise ? "promise" : undefined;
    const because = given === undefined || given === null ? "nothing" : isPromise;
    return fail("server.not-a-response", { received: kindOf(given), because });
  }
  const response = given as Response;
  if (response.bodyUsed)
    fail("server.not-a-response", { received: "a Response without its body", because: "read" });
  return response;
}

/**
 * What a function is handed to work with later: told now, and not with the first visitor.
 *
 * @param expected what it has to be, in words
 * @throws server.unfit-argument
 */
export function requireFit<Given>(given: Given, isFit: (given: Given) => boolean, expected: string): Given {
  if (given !== undefined && given !== null && isFit(given)) return given;
  return fail("server.unfit-argument", {
    received: kindOf(given),
    expected,
    because: given instanceof Promise ? "promise" : undefined,
  });
}

/**
 * What is to answer requests.
 *
 * @throws server.unfit-argument
 */
export function requireHandler(handler: unknown): void {
  requireFit(handler, (given) => typeof given === "function", "a function that answers requests");
}

/**
 * What a framework alone calls, and hands something of its own to: first of all when an app is put together.
 *
 * @param how it is handed to the framework, such as `app.use(middleware)`
 * @throws server.unfit-argument
 */
export function requireFramework(given: unknown, how: string): void {
  if (given !== undefined) return;
  fail("server.unfit-argument", {
    received: "nothing",
    expected: `a call by the framework: ${how}`,
    because: "called",
  });
}

/** A value by its kind, as its maker calls it: what is in it may be anybody's. */
export function kindOf(value: unknown): string {
  if (value === undefined || value === null) return "nothing";
  if (typeof value !== "object" && typeof value !== "function") return shapeOf(value);
  const name = (value as { readonly constructor?: { readonly name?: unknown } }).constructor?.name;
  return quoted(name ?? typeof value, 60);
}

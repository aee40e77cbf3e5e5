import { fail, quoted } from "../problem/index.js";

/** The innermost error of a network failure, and its code, such as ECONNREFUSED. */
export function innermost(error: unknown): { readonly inner: unknown; readonly code: string | undefined } {
  let inner: unknown = error;
  while (inner instanceof Error && inner.cause !== undefined) inner = inner.cause;
  const code = (inner as { code?: unknown } | null)?.code;
  return { inner, code: typeof code === "string" ? code : undefined };
}

/**
 * What somebody's own `fetch` has answered: not everything that is called so answers with a Response of the web's.
 *
 * @throws platform.unreachable
 */
export function requireFetched(given: unknown): Response {
  const { body, headers } = (given ?? {}) as Partial<Response>;
  if ((body === null || body?.locked === false) && typeof headers?.get === "function")
    return given as Response;
  return fail("platform.unreachable", { received: `${typeof given}, from \`fetch\``, because: "own-fetch" });
}

/** Why a request got no answer: the code of the innermost error, where it has one. */
export function unansweredBy(error: unknown): string {
  const { inner, code } = innermost(error);
  if (code !== undefined) return quoted(code, 60);
  // The words themselves may repeat what was to be sent, such as a header with a token in it.
  return inner instanceof Error ? `no answer, ${quoted(inner.name, 60)}` : "no answer";
}

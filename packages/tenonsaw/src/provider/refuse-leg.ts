import type { JsonObject } from "../jose/index.js";
import { fail, quotedList, type ProblemFinding } from "../problem/index.js";
import { describeBody, type Answer } from "../trace/index.js";
import { describeRefusal } from "./read-refusal.js";
import type { Provider } from "./settle-provider.js";
import { clientBecause, isNowhere } from "./why-refused.js";

/**
 * Says why an endpoint beside the token endpoint did not do what it was asked for.
 *
 * @param mistakes of an answer that says it was done, and is of no use
 * @throws grant.client-refused, or `code` with what it comes from
 */
export async function refuseLeg(
  provider: Provider,
  code: "attempt.request-refused" | "grant.device-refused" | "grant.revocation-refused",
  answer: Answer,
  body: JsonObject,
  mistakes: readonly ProblemFinding[] = [],
): Promise<never> {
  const received = await describeRefusal(answer, body);
  const { status } = answer;
  const { error } = body;
  const isPage = error === undefined && describeBody(answer).because === "page";
  if (mistakes.length > 0 && !isPage)
    fail(code, {
      received: `status ${status} and the members ${quotedList(Object.keys(body)) ?? "(none)"}`,
      findings: mistakes,
      because: "unusable",
    });
  // RFC 6749 section 5.2: 401 where the client did not prove itself.
  if (error === "invalid_client" || (error === undefined && status === 401))
    fail("grant.client-refused", {
      received: `${received}; the client proved itself by ${provider.clientAuthentication}`,
      because: clientBecause(provider),
    });
  const isNone = error === undefined && (isPage || isNowhere(status));
  const because =
    error === "invalid_scope" ? "scope" : error === "unauthorized_client" ? "not-allowed" : undefined;
  fail(code, { received, because: because ?? (isNone ? "not-there" : undefined) });
}

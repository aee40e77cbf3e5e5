import type { Attempt } from "../attempt/index.js";
import { fail, quoted } from "../problem/index.js";
import { checkIssuer, type Provider } from "../provider/index.js";
import { check, checkSecret } from "../trace/index.js";

/** What came back with the browser, once it has been proved to answer the attempt. */
export type AuthorizationResponse =
  | {
      readonly kind: "code";
      readonly code: string;
      /** Parameters that deviations.keepCallbackParameters names, as the browser brought them. */
      readonly kept: Readonly<Record<string, string>>;
    }
  | { readonly kind: "declined" };

const single = ["state", "code", "iss", "error", "error_description", "error_uri"];

/**
 * Reads the authorization response from the callback's query: RFC 6749 sections 4.1.2 and 4.1.2.1, RFC 9207
 * section 2.4.
 *
 * @throws response.empty, response.parameter-duplicated, response.state-missing, response.state-altered,
 *   response.attempt-too-old, response.issuer-missing, response.issuer-mismatch, response.provider-error,
 *   response.code-missing
 */
export async function readResponse(
  provider: Provider,
  attempt: Attempt,
  parameters: URLSearchParams,
): Promise<AuthorizationResponse> {
  const { tools } = provider;
  // RFC 6749 4.1.2: the state is the one that was sent. Nothing else is looked at before that is sure.
  const state = readState(parameters);
  await checkSecret(tools, "response.state-altered", state, attempt.state);
  check(tools, "response.attempt-too-old", tools.platform.now() < attempt.expiresAt, () => ({
    received: `${Math.round(tools.platform.now() - attempt.beganAt)} s since it began`,
  }));
  // RFC 9207 2.4: who answers is who was asked. Promised means required; unpromised but there is compared all
  // the same (the strict reading), also on errors.
  const iss = parameters.get("iss");
  const isPromised = provider.metadata.authorization_response_iss_parameter_supported;
  check(tools, "response.issuer-missing", iss !== null || !isPromised, () => ({
    received: iss === null ? "no `iss`" : "`iss`",
  }));
  if (iss !== null) checkIssuer(tools, "response.issuer-mismatch", provider, iss);
  // RFC 6749 4.1.2.1: `access_denied` is a person's decision, all other errors are failures.
  const error = parameters.get("error");
  if (error === "access_denied") return { kind: "declined" };
  if (error !== null) fail("response.provider-error", { received: describeError(error, parameters) });
  const code = parameters.get("code");
  if (code === null || code === "") {
    fail("response.code-missing", { received: `the parameters ${[...parameters.keys()].join(", ")}` });
  }
  return { kind: "code", code, kept: keepParameters(provider, parameters) };
}

function keepParameters(provider: Provider, parameters: URLSearchParams): Readonly<Record<string, string>> {
  const names = provider.deviations.keepCallbackParameters ?? [];
  const doubled = names.filter((name) => parameters.getAll(name).length > 1);
  if (doubled.length > 0) {
    fail("response.parameter-duplicated", { received: `${doubled.join(", ")} more than once` });
  }
  return Object.fromEntries(
    names.flatMap((name) => {
      const value = parameters.get(name);
      return value === null ? [] : [[name, value]];
    }),
  );
}

/**
 * The state a callback carries, before any attempt is known: used to look the attempt up.
 *
 * @throws response.empty, response.parameter-duplicated, response.state-missing
 */
export function readState(parameters: URLSearchParams): string {
  const present = single.filter((name) => parameters.has(name));
  if (present.length === 0) fail("response.empty", { received: "no response parameters" });
  // RFC 6749 3.1: no parameter more than once. Which of two would count is for nobody to choose.
  const doubled = present.filter((name) => parameters.getAll(name).length > 1);
  if (doubled.length > 0) {
    fail("response.parameter-duplicated", { received: `${doubled.join(", ")} more than once` });
  }
  const state = parameters.get("state");
  if (state === null || state === "") {
    fail("response.state-missing", { received: `only ${present.join(", ")}` });
  }
  return state;
}

function describeError(error: string, parameters: URLSearchParams): string {
  const description = parameters.get("error_description");
  return description === null ? quoted(error) : `${quoted(error)}: ${quoted(description, 300)}`;
}

import type { Attempt } from "../attempt/index.js";
import { limits } from "../platform/index.js";
import { fail, quoted, quotedList, type CauseOf } from "../problem/index.js";
import { checkIssuer, type Provider } from "../provider/index.js";
import { check, checkSecret } from "../trace/index.js";

/** What came back with the browser, once it has been proved to answer the attempt. */
export type AuthorizationResponse =
  | {
      readonly kind: "answered";
      /** Absent where the response type asks for none. */
      readonly code?: string;
      /** The tokens that came through the browser, where the response type asks for them; not validated yet. */
      readonly idToken?: string;
      readonly accessToken?: string;
      readonly expiresIn?: number;
      readonly scope?: string;
      /** Parameters that deviations.keepCallbackParameters names, as the browser brought them. */
      readonly kept: Readonly<Record<string, string>>;
    }
  | { readonly kind: "declined"; readonly said: string };

const single = [
  "state",
  "code",
  "iss",
  "error",
  "error_description",
  "error_uri",
  "id_token",
  "access_token",
  "token_type",
  "expires_in",
  "scope",
];

/**
 * Reads the authorization response from the callback's query: RFC 6749 sections 4.1.2 and 4.1.2.1, RFC 9207
 * section 2.4.
 *
 * @throws response.empty, response.parameter-duplicated, response.state-missing, response.state-altered,
 *   response.attempt-too-old, response.issuer-missing, response.issuer-mismatch, response.provider-error,
 *   response.code-missing, response.token-unasked
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
  if (error === "access_denied") return { kind: "declined", said: describeError(error, parameters) };
  if (error !== null) refuseError(provider, attempt, error, parameters);
  return {
    kind: "answered",
    ...readTokens(provider, parameters),
    kept: keepParameters(provider, parameters),
  };
}

const errorCauses: Readonly<Record<string, CauseOf<"response.provider-error">>> = {
  invalid_scope: "scope",
  unsupported_response_type: "response-type",
  unauthorized_client: "client",
  invalid_request: "request",
  login_required: "person",
  consent_required: "person",
  interaction_required: "person",
  account_selection_required: "person",
  server_error: "out-of-order",
  temporarily_unavailable: "out-of-order",
};

function refuseError(
  { metadata, responseType, host }: Provider,
  attempt: Attempt,
  error: string,
  parameters: URLSearchParams,
): never {
  const isLaunch = host?.isSmart === true && attempt.scope.split(" ").includes("launch");
  // Which of the two it is, the launch or the request, the host alone can say: its words are in what was received.
  const isOfLaunch = isLaunch && (error === "invalid_request" || error === "unauthorized_client");
  const usual = Object.hasOwn(errorCauses, error) ? errorCauses[error] : undefined;
  const because = isOfLaunch ? "launch" : usual;
  const listed = metadata.scopes_supported;
  const unlisted = attempt.scope.split(" ").filter((each) => listed?.includes(each) === false);
  const findings = {
    scope: {
      path: "scope",
      message: `is ${attempt.scope}${unlisted.length > 0 ? `; the metadata does not list ${unlisted.join(", ")}` : ""}`,
    },
    "response-type": {
      path: "responseType",
      message: `is ${responseType}; the metadata lists ${metadata.response_types_supported?.join(", ") ?? "none"}`,
    },
  };
  fail("response.provider-error", {
    received: describeError(error, parameters),
    because,
    ...((because === "scope" || because === "response-type") && { findings: [findings[because]] }),
  });
}

/** Exactly what the response type asks for: OAuth 2.0 Multiple Response Type Encoding Practices 1.0, sections 3 and 5. */
function readTokens(provider: Provider, parameters: URLSearchParams) {
  const asked = new Set(provider.responseType.split(" "));
  const received = { code: "code", id_token: "id_token", token: "access_token" } as const;
  const values = new Map(Object.entries(received).map(([type, name]) => [type, parameters.get(name) ?? ""]));
  const missing = [...asked].filter((type) => values.get(type) === "");
  if (missing.length > 0) {
    fail("response.code-missing", {
      received: `the parameters ${quotedList([...parameters.keys()]) ?? "(none)"}`,
      expected: provider.responseType.split(" ").join(" and "),
    });
  }
  // A token that nobody asked for was put there by somebody else.
  const surplus = [...values].filter(([type, value]) => value !== "" && !asked.has(type));
  check(provider.tools, "response.token-unasked", surplus.length === 0, () => ({
    received: surplus.map(([type]) => type).join(", ") || "nothing more",
    expected: provider.responseType,
  }));
  const type = parameters.get("token_type");
  if (asked.has("token") && type?.toLowerCase() !== "bearer")
    fail("grant.token-type-refused", { received: quoted(type ?? undefined) });
  const seconds = Number(parameters.get("expires_in") ?? Number.NaN);
  const scope = parameters.get("scope");
  return {
    ...(asked.has("code") && { code: values.get("code") ?? "" }),
    ...(asked.has("id_token") && { idToken: values.get("id_token") ?? "" }),
    ...(asked.has("token") && { accessToken: values.get("token") ?? "" }),
    ...(asked.has("token") && Number.isFinite(seconds) && seconds >= 0 && { expiresIn: seconds }),
    ...(asked.has("token") && scope !== null && { scope }),
  };
}

function keepParameters(provider: Provider, parameters: URLSearchParams): Readonly<Record<string, string>> {
  const names = provider.deviations.keepCallbackParameters ?? [];
  const doubled = names.filter((name) => parameters.getAll(name).length > 1);
  if (doubled.length > 0) {
    fail("response.parameter-duplicated", { received: `${doubled.join(", ")} more than once` });
  }
  const long = names.filter((name) => (parameters.get(name) ?? "").length > limits.keptParameter);
  if (long.length > 0) {
    fail("response.parameter-too-long", {
      received: `${long.join(", ")} of more than ${limits.keptParameter} characters`,
    });
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
  const [description, uri] = [parameters.get("error_description"), parameters.get("error_uri")];
  return [
    quoted(error),
    ...(description === null ? [] : [`: ${quoted(description, 300)}`]),
    ...(uri === null ? [] : [`, see ${quoted(uri, 300)}`]),
  ].join("");
}

import { isProblem, ProblemError, type Problem, type ProblemCode } from "../problem/index.js";
import { namesIn, type CallNeeds } from "./needs.js";
import { proofAlgorithms } from "./proof.js";

/** What the standards call a refusal, and its status: RFC 6750 section 3.1, RFC 9449 sections 7 and 9, RFC 9470 section 3. */
const answers: Partial<Record<ProblemCode, readonly [number, string?]>> = {
  // RFC 6750 section 3: without a token there is no error to tell.
  "guard.token-missing": [401],
  "guard.credentials-malformed": [400, "invalid_request"],
  "guard.token-misplaced": [400, "invalid_request"],
  "guard.proof-missing": [401, "invalid_token"],
  "guard.proof-refused": [401, "invalid_dpop_proof"],
  "guard.proof-replayed": [401, "invalid_dpop_proof"],
  "guard.proof-nonce-needed": [401, "use_dpop_nonce"],
  "guard.scope-missing": [403, "insufficient_scope"],
  "guard.role-missing": [403, "insufficient_scope"],
  "guard.claim-refused": [403, "insufficient_scope"],
  "guard.caller-refused": [403, "insufficient_scope"],
  "guard.actor-refused": [403, "insufficient_scope"],
  "guard.authentication-insufficient": [401, "insufficient_user_authentication"],
  "guard.request-unsigned": [400, "invalid_request"],
  "guard.request-method-refused": [400, "invalid_request"],
};

/** What an answer that refuses is made of beside the problem. */
export interface RefusalContext {
  /** The name in challenges. */
  readonly realm: string;
  /** Where the metadata of this API is (RFC 9728 section 5.1). */
  readonly metadataUrl?: string | undefined;
  /** What the call came with, so that the right challenge carries the error. */
  readonly scheme: "bearer" | "dpop" | "oauth";
  readonly takesBearer: boolean;
  readonly takesSigned: boolean;
  readonly needs: CallNeeds;
  /** The nonce for the next proof. */
  readonly nonce?: string | undefined;
  /** Of every answer to this call: CORS. */
  readonly headers: Readonly<Record<string, string>>;
  readonly development: boolean;
}

/**
 * A call that is not let in. `problem` is for the developer; `response()` is the answer to send: it tells the caller the
 * standard's code and no more.
 */
export class Refusal extends ProblemError {
  /** Of the answer. */
  readonly status: number;
  /** The standard's code, such as `invalid_token`; absent where no token came, and where this side is at fault. */
  readonly error: string | undefined;
  readonly #headers: readonly (readonly [string, string])[];
  readonly #body: object;

  constructor({ problem, cause }: ProblemError, context: RefusalContext) {
    super(problem.code, { ...problem, cause });
    const isOurs = problem.status >= 500;
    const [status, error] = answers[problem.code] ?? (isOurs ? [problem.status] : [401, "invalid_token"]);
    this.status = isGuards(problem) || isOurs ? status : problem.status;
    this.error = isGuards(problem) ? error : isOurs ? undefined : "invalid_request";
    this.#headers = headersOf(this.status, this.error, problem, context);
    this.#body = context.development
      ? { ...problem, status: this.status, ...(this.error !== undefined && { error: this.error }) }
      : {
          title: titleOf(this.status),
          status: this.status,
          ...(this.error !== undefined && { error: this.error }),
        };
  }

  /** The answer to send, made anew each time. */
  response(): Response {
    const headers = new Headers();
    for (const [name, value] of this.#headers) headers.append(name, value);
    return new Response(this.body, { status: this.status, headers });
  }

  /** Headers of the answer; WWW-Authenticate may be there several times. */
  get headers(): readonly (readonly [string, string])[] {
    return this.#headers;
  }

  /** The content of the answer: a problem (RFC 9457). */
  get body(): string {
    return JSON.stringify(this.#body);
  }
}

/** Whether an error is a call that was not let in. */
export function isRefusal(error: unknown): error is Refusal {
  return isProblem(error) && "response" in error;
}

const isGuards = ({ station }: Problem) => station === "guard";

function titleOf(status: number): string {
  if (status === 401) return "The call is not authorised";
  if (status === 403) return "The call is not allowed";
  return status < 500 ? "The call cannot be read" : "The call cannot be judged now";
}

function headersOf(
  status: number,
  error: string | undefined,
  problem: Problem,
  context: RefusalContext,
): readonly (readonly [string, string])[] {
  const isOurs = status >= 500;
  const wait = problem.retryAfterSeconds ?? (status === 503 ? 5 : undefined);
  return [
    ["content-type", "application/problem+json"],
    ["cache-control", "no-store"],
    ...(isOurs
      ? []
      : challengesOf(error, problem, context).map((value) => ["www-authenticate", value] as const)),
    ...(context.nonce === undefined || isOurs ? [] : ([["dpop-nonce", context.nonce]] as const)),
    ...(wait === undefined ? [] : ([["retry-after", String(wait)]] as const)),
    ...Object.entries(context.headers),
  ];
}

/** RFC 6750 section 3, RFC 9449 section 7.1 and 7.2, RFC 9728 section 5.1, RFC 5849 section 3.5.1: each way to be let in. */
function challengesOf(
  error: string | undefined,
  problem: Problem,
  context: RefusalContext,
): readonly string[] {
  const { realm, metadataUrl, scheme, needs, development } = context;
  const scope = namesIn(needs.scope ?? needs.anyScope).join(" ");
  const common = [
    ["realm", realm],
    ...(metadataUrl === undefined ? [] : [["resource_metadata", metadataUrl] as const]),
  ] as const;
  const isStepUp = error === "insufficient_user_authentication";
  const why: readonly (readonly [string, string])[] = [
    ...(error === undefined ? [] : [["error", error] as const]),
    ...(error !== undefined && development ? [["error_description", problem.title] as const] : []),
    // Where a role or the like is lacking, no scope is named: asking for it again would change nothing.
    ...(scope !== "" && (error === undefined || problem.code === "guard.scope-missing")
      ? [["scope", scope] as const]
      : []),
    ...(isStepUp && needs.acrValues !== undefined
      ? [["acr_values", namesIn(needs.acrValues).join(" ")] as const]
      : []),
    ...(isStepUp && needs.maxAge !== undefined ? [["max_age", String(needs.maxAge)] as const] : []),
  ];
  const reasonFor = (name: string) => (error === undefined || name === scheme ? why : []);
  const schemes: readonly (readonly [string, readonly (readonly [string, string])[]])[] = [
    ...(context.takesBearer ? [["Bearer", [...common, ...reasonFor("bearer")]] as const] : []),
    ["DPoP", [...common, ["algs", proofAlgorithms.join(" ")], ...reasonFor("dpop")]],
    ...(context.takesSigned ? [["OAuth", [["realm", realm] as const]] as const] : []),
  ];
  return schemes.map(
    ([name, parameters]) =>
      `${name} ${parameters.map(([key, value]) => `${key}="${quotable(value)}"`).join(", ")}`,
  );
}

/** RFC 6750 section 3: characters that the parameters may have. */
function quotable(value: string): string {
  return value.replace(/[^\x20\x21\x23-\x5b\x5d-\x7e]/g, "?");
}

import { problemMark } from "./mark.js";
import type { CauseOf, ProblemCode } from "./catalogue.js";
import { entryOf } from "./entry-of.js";

/** One thing wrong among several, with the place it was found at. */
export interface ProblemFinding {
  readonly path: string;
  readonly message: string;
  /** File, line and column, where it stands in a file. */
  readonly place?: string;
}

/** A catalogued failure: plain data, safe to show to a developer, log or send as JSON. */
export interface Problem {
  readonly code: ProblemCode;
  readonly station: string;
  readonly title: string;
  readonly expected: string;
  /** What came instead. Secrets, codes and tokens appear as fingerprints only. */
  readonly received?: string;
  /** What to change in one's own app. */
  readonly here?: string;
  /** What to change in the provider's console. */
  readonly atProvider?: string;
  readonly section?: string;
  readonly findings?: readonly ProblemFinding[];
  /** Which of its causes it comes from, where it has several and that could be told. */
  readonly because?: string;
  /** After how many seconds it is worth another try, where somebody has said. */
  readonly retryAfterSeconds?: number;
  /** What to ask the person for: `signIn.ask(request, problem.ask)`. */
  readonly ask?: {
    readonly provider: string;
    readonly scope?: string;
    /** Which of the person's connected accounts it is about, by the provider's ID. */
    readonly account?: string;
    /** Where an account is to be connected; otherwise by signing in. */
    readonly by?: "connecting";
  };
  /** HTTP status for an answer that has to show this problem. */
  readonly status: number;
}

/** What is known of one case: what came, what was expected there, and what to change. */
export interface ProblemDetail {
  /** As somebody else has told it, where the catalogue is not at hand: title and status. */
  readonly title?: string;
  readonly status?: number;
  readonly received?: string;
  /** Sharper than the catalogue's general sentence, where the exact value is known. */
  readonly expected?: string;
  readonly here?: string;
  readonly findings?: readonly ProblemFinding[];
  /** One of the code's causes. */
  readonly because?: string | undefined;
  readonly retryAfterSeconds?: number;
  readonly ask?: Problem["ask"];
  readonly cause?: unknown;
}

/** Builds the plain problem for `code`, the catalogue's sentences sharpened by `detail`. */
export function describeProblem(code: ProblemCode, detail: ProblemDetail = {}): Problem {
  const entry = entryOf(code, detail.because);
  const here = detail.here ?? entry.here;
  return {
    code,
    station: code.slice(0, code.indexOf(".")),
    title: detail.title ?? entry.title,
    expected: detail.expected ?? entry.expected,
    ...(detail.received !== undefined && { received: detail.received }),
    ...(here !== undefined && { here }),
    ...(entry.atProvider !== undefined && { atProvider: entry.atProvider }),
    ...(entry.section !== undefined && { section: entry.section }),
    ...(detail.findings !== undefined && { findings: detail.findings }),
    ...(detail.because !== undefined && { because: detail.because }),
    ...(detail.retryAfterSeconds !== undefined && { retryAfterSeconds: detail.retryAfterSeconds }),
    ...(detail.ask !== undefined && { ask: detail.ask }),
    status: detail.status ?? entry.status,
  };
}

/** A problem on its way up. `message` reads as one paragraph; `problem` is the data. */
export class ProblemError extends Error {
  override readonly name = "ProblemError";
  declare readonly problem: Problem;
  /** Not a member of each: it is neither shown nor copied with what is made of one. */
  // eslint-disable-next-line @typescript-eslint/class-literal-property-style -- a field would be
  get [problemMark](): true {
    return true;
  }

  constructor(code: ProblemCode, detail: ProblemDetail = {}) {
    const problem = describeProblem(code, detail);
    super(problemText(problem), detail.cause === undefined ? undefined : { cause: harmless(detail.cause) });
    // Printed by a runtime, it is its text once: `message` says all that `problem` does.
    Object.defineProperty(this, "problem", { value: problem });
  }
}

/**
 * A foreign error as a cause: its name, its code and where it happened. Its words may repeat what was sent or read, and
 * its members what it was given, such as an address with a password in it; those of the system and of databases
 * (ECONNREFUSED, SQLSTATE, …) name addresses and tables, and are kept.
 */
class ForeignError extends Error {}

function harmless(cause: unknown): unknown {
  if (!(cause instanceof Error) || problemMark in cause) return cause instanceof Error ? cause : undefined;
  const { name, message, stack = "", code, cause: inner } = cause as Error & { readonly code?: unknown };
  const isSystem = typeof code === "string" && /^(E[A-Z]+|[0-9A-Z]{5}|SQLITE_\w+)$/.test(code);
  const words = isSystem ? message : "";
  const copy = new ForeignError(words, inner === undefined ? undefined : { cause: harmless(inner) });
  Object.defineProperty(copy, "name", { value: name, enumerable: false });
  copy.stack = [
    `${name}${words && `: ${words}`}`,
    ...stack.split("\n").filter((line) => /^\s+at /.test(line)),
  ].join("\n");
  return typeof code === "string" ? Object.assign(copy, { code }) : copy;
}

/** Throws the catalogued problem; as an expression, so that it can stand where a value is missing. */
export function fail<Code extends ProblemCode>(
  code: Code,
  detail?: ProblemDetail & { readonly because?: CauseOf<Code> | undefined },
): never {
  throw new ProblemError(code, detail);
}

/** @throws server.unfit-argument */
function problemIn(given: Problem | { readonly problem: Problem } | undefined): Problem {
  const { problem = given } = (given ?? {}) as { readonly problem?: Problem };
  if (typeof problem !== "object" || !("code" in problem))
    return fail("server.unfit-argument", {
      received: typeof given,
      expected: "a problem, or the error that has it",
    });
  return problem;
}

/**
 * The problem as text for a terminal or log: one line for the title, then one for each thing to know.
 *
 * @param given the problem, or the error that has it
 */
export function problemText(given: Problem | { readonly problem: Problem }): string {
  const problem = problemIn(given);
  const lines = [`${problem.title} (${problem.code})`, `expected: ${problem.expected}`];
  if (problem.received !== undefined) lines.push(`received: ${problem.received}`);
  for (const finding of problem.findings ?? []) {
    lines.push(
      `at ${finding.place === undefined ? "" : `${finding.place} `}${finding.path}: ${finding.message}`,
    );
  }
  if (problem.here !== undefined) lines.push(`change here: ${problem.here}`);
  if (problem.atProvider !== undefined) lines.push(`at the provider: ${problem.atProvider}`);
  if (problem.section !== undefined) lines.push(`see: ${problem.section}`);
  return lines.join("\n  ");
}

/** Characters that a terminal or a log would act on instead of showing them: controls, and those that turn text around. */
const acting = /[\u0000-\u001f\u007f-\u009f\u2028\u2029\u200e\u200f\u061c\u202a-\u202e\u2066-\u2069]/g;

/** Outside text on one line of a log or terminal: what would be acted on is shown as its code, such as `\x1b`. */
export function visible(text: string): string {
  return text.replace(acting, (character) => {
    const code = character.charCodeAt(0).toString(16);
    return code.length > 2 ? `\\u${code.padStart(4, "0")}` : `\\x${code.padStart(2, "0")}`;
  });
}

/** An outside value made safe to stand in a problem: printable, on one line, at most `limit` characters. */
export function quoted(value: unknown, limit = 120): string {
  const text = typeof value === "string" ? value : value === undefined ? "absent" : stringify(value);
  const printable = text.slice(0, limit + 1).replace(new RegExp(`${acting.source}+`, "g"), " ");
  return JSON.stringify(printable.length > limit ? `${printable.slice(0, limit)}…` : printable);
}

/** Outside values in one line, the first of them by themselves; undefined for none. */
export function quotedList(values: readonly unknown[]): string | undefined {
  const most = 20;
  if (values.length === 0) return undefined;
  const rest = values.length > most ? ` and ${values.length - most} more` : "";
  return (
    values
      .slice(0, most)
      .map((value) => quoted(value))
      .join(", ") + rest
  );
}

/** Whatever it is, and however deep. */
function stringify(value: unknown): string {
  try {
    const text: unknown = JSON.stringify(value);
    return typeof text === "string" ? text : typeof value;
  } catch {
    return `a ${typeof value} that cannot be shown`;
  }
}

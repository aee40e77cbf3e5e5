import { createPlatform, type Platform } from "../platform/index.js";
import {
  entryOf,
  ProblemError,
  visible,
  type CauseOf,
  type ProblemCode,
  type ProblemDetail,
} from "../problem/index.js";
import type { Trace } from "./event.js";
import { fingerprint } from "./secret-names.js";

/** What every step is handed along: where it runs and who is told. */
export interface Tools {
  readonly platform: Platform;
  readonly trace?: Trace | undefined;
  /** Is told what fails where nobody is there to be answered, or the answer says less: an error, and during what. */
  readonly report?: ((error: unknown, during: string) => void) | undefined;
  /** Where nonces for proofs of possession (RFC 9449) are kept, by origin: for whoever lets them outlive the process. */
  readonly nonces?: Map<string, string> | undefined;
}

/** A platform and a trace, as every step takes them; the usual platform where none is given. */
export function createTools(parts: Partial<Tools> = {}): Tools {
  return {
    platform: parts.platform ?? createPlatform(),
    trace: parts.trace,
    report: parts.report,
    nonces: parts.nonces,
  };
}

/**
 * One validation step: told to the trace, and thrown as the problem `code` when it does not hold.
 * `detail` runs only when somebody will read it.
 */
export function check<Code extends ProblemCode>(
  tools: Tools,
  code: Code,
  holds: boolean,
  detail: () => ProblemDetail & { readonly because?: CauseOf<Code> | undefined },
): void {
  if (!holds || tools.trace) takeStep(tools, { code, holds, detail });
}

/** A validation step as data: what is judged by a list of them is told, and thrown, one by one. */
export interface Step {
  readonly code: ProblemCode;
  readonly holds: boolean;
  /** What came, and what should have; the cause is one of the code's. */
  readonly detail: () => ProblemDetail;
}

/** The same for a step as data. */
export function takeStep(tools: Tools, { code, holds, detail }: Step): void {
  if (holds && !tools.trace) return;
  const { received, expected, ...rest } = detail();
  tools.trace?.({
    kind: "check",
    at: tools.platform.now(),
    station: stationOf(code),
    check: code,
    verdict: holds ? "passed" : "failed",
    ...(received !== undefined && { received }),
    expected: expected ?? entryOf(code).expected,
  });
  if (holds) return;
  throw new ProblemError(code, {
    ...rest,
    ...(received !== undefined && { received }),
    ...(expected !== undefined && { expected }),
  });
}

/** A step that compares two secrets: in constant time, and reported by fingerprint. */
export async function checkSecret(
  tools: Tools,
  code: ProblemCode,
  received: string,
  expected: string,
): Promise<void> {
  const holds = equalInConstantTime(received, expected);
  if (holds && !tools.trace) return;
  const detail = {
    received: `a value with fingerprint ${await fingerprint(tools.platform, received)}`,
    expected: `the value with fingerprint ${await fingerprint(tools.platform, expected)}`,
  };
  check(tools, code, holds, () => detail);
}

/** Something worth telling that is neither a leg nor a check. */
export function note(tools: Tools, station: string, text: string, detail: Record<string, string> = {}): void {
  if (!tools.trace) return;
  // What came from elsewhere may act on a terminal, and whoever listens may print it as it is.
  const shown = Object.entries(detail).map(([name, value]) => [name, visible(value)]);
  tools.trace({
    kind: "note",
    at: tools.platform.now(),
    station,
    note: visible(text),
    detail: Object.fromEntries(shown) as Record<string, string>,
  });
}

/** Takes as long for unequal strings of one length as for equal ones. */
export function equalInConstantTime(left: string, right: string): boolean {
  if (left.length !== right.length) return false;
  let difference = 0;
  for (let index = 0; index < left.length; index += 1) {
    difference |= left.charCodeAt(index) ^ right.charCodeAt(index);
  }
  return difference === 0;
}

function stationOf(code: ProblemCode): string {
  return code.slice(0, code.indexOf("."));
}

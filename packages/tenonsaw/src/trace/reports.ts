import QuickLRU from "quick-lru";
import type { Platform } from "../platform/index.js";
import { kindOf, requireFit } from "./handed-over.js";
import { describeProblem, isProblem, visible, type Problem } from "../problem/index.js";

/** Something that went wrong, for the app's own log. */
export interface ProblemReport {
  readonly problem: Problem;
  /** Method and path of the request, without its query, or what was being done: `GET /tides`, `taking tokens back`. */
  readonly during: string;
  /** What was thrown: a ProblemError, or an error of the app's own, whose problem is `server.app-failed`. */
  readonly error: Error;
  /** Seconds since the epoch. */
  readonly at: number;
}

/**
 * A report as one line for people: the code, during what, what happened, and what to change.
 *
 * @throws server.unfit-argument
 */
export function describeReport(report: ProblemReport): string {
  requireFit(
    report,
    (given) => "problem" in Object(given) && given.error instanceof Error,
    "the report that onProblem is given",
  );
  const { problem, during, error } = report;
  const { code, title, expected, received, findings = [], here, atProvider } = problem;
  const cause = isProblem(error) ? causeOf(error) : error;
  const parts = [
    `${title}.`,
    ...(received === undefined ? [] : [`Received: ${received}.`, `Expected: ${expected}.`]),
    ...findings.map(
      ({ path, message, place }) => `${place === undefined ? "" : `${place} `}${path} ${message}.`,
    ),
    ...(cause === undefined ? [] : [`Cause: ${cause.name}${cause.message && `: ${cause.message}`}.`]),
    ...(here === undefined ? [] : [`Change here: ${here}`]),
    ...(atProvider === undefined ? [] : [`At the provider: ${atProvider}`]),
  ];
  return visible(`tenonsaw: ${code} during ${during}. ${parts.join(" ")}`);
}

/** The innermost error underneath that says something. */
function causeOf(error: Error): Error | undefined {
  const { cause } = error;
  if (!(cause instanceof Error)) return undefined;
  return causeOf(cause) ?? (isProblem(cause) ? undefined : cause);
}

/** Tells each thing that went wrong once, and does not fail itself. */
export function createReport(
  platform: Platform,
  onProblem: (report: ProblemReport) => unknown = createPrinter(platform),
): (thrown: unknown, during: string) => void {
  const told = new WeakSet<Error>();
  return (thrown, during) => {
    const error = errorOf(thrown);
    if (told.has(error)) return;
    told.add(error);
    const problem = problemOf(error);
    const report = { problem, during, error, at: platform.now() };
    const failed = (why: unknown) => {
      const { name, message } = errorOf(why);
      platform.print(visible(`tenonsaw: onProblem threw ${name}: ${message}. It was to be told:`));
      platform.print(describeReport(report));
    };
    try {
      // What returns a promise in spite of its type may reject, and nobody else would notice before the process ends.
      Promise.resolve(onProblem(report)).catch(failed);
    } catch (why) {
      failed(why);
    }
  };
}

/** Whatever was thrown, as an error, with what it says. */
export function errorOf(thrown: unknown): Error {
  if (thrown instanceof Error) return thrown;
  const { message } = (thrown ?? {}) as { readonly message?: unknown };
  const said = [thrown, message].find((each) => typeof each === "string");
  const words = said === undefined ? "" : `: ${said.slice(0, 500)}`;
  // eslint-disable-next-line no-restricted-syntax -- it stands for the app's own, and is not thrown
  return new TypeError(`thrown as ${kindOf(thrown)}, which is no Error${words}`);
}

/** Which function of the settings has thrown an error. */
const throwers = new WeakMap<Error, string>();

/** Whatever a function of the settings has thrown, as an error that is told with the function's name. */
export function thrownBy(name: string, thrown: unknown): Error {
  const error = errorOf(thrown);
  throwers.set(error, name);
  return error;
}

/** An error as a problem. The words of the app's own stay in the log: they are not ours to show. */
export function problemOf(error: Error): Problem {
  if (isProblem(error)) return error.problem;
  const thrower = throwers.get(error);
  const by = thrower === undefined ? "" : `, thrown by \`${thrower}\``;
  return describeProblem("server.app-failed", { received: `${error.name}${by}` });
}

/** How often one kind of line is printed, in seconds: what visitors' browsers do, and everything else. */
const intervals = { visitors: 60, others: 1 };
/** So many lines a second, whatever they are of: who can choose paths cannot fill a disk. */
const mostLines = 20;

/** One line for each, on standard error; of many alike the next one says how many there were. */
function createPrinter({ monotonic, print }: Platform): (report: ProblemReport) => void {
  const printed = new QuickLRU<string, { readonly at: number; readonly missed: number }>({ maxSize: 500 });
  const stacks = new QuickLRU<string, true>({ maxSize: 500 });
  let [second, lines] = [0, 0];
  return (report) => {
    const { problem, error } = report;
    const now = Math.floor(monotonic());
    [second, lines] = [now, now === second ? lines : 0];
    // Of what is wrong in the app another value is other news.
    const about = problem.status < 500 ? "" : `${report.during} ${problem.received ?? ""}`;
    const key = `${problem.code} ${about}`;
    const before = printed.get(key);
    const interval = problem.status < 500 ? intervals.visitors : intervals.others;
    if ((before && monotonic() - before.at < interval) || lines >= mostLines) {
      const { at, missed: missedBefore } = before ?? { at: -Infinity, missed: 0 };
      printed.set(key, { at, missed: missedBefore + 1 });
      return;
    }
    lines += 1;
    printed.set(key, { at: monotonic(), missed: 0 });
    const missed = before && before.missed > 0 ? ` (and ${before.missed} more like it)` : "";
    print(describeReport(report) + missed);
    const { stack } = error;
    if (isProblem(error) || stack === undefined || stacks.has(stack)) return;
    stacks.set(stack, true);
    print([...stack.split("\n").slice(1, 20), ...causesOf(error)].map(visible).join("\n"));
  };
}

/**
 * What an error came from, a line for each: what `fetch` throws says no more than that it failed, and the code of its cause says
 * why. The words of a cause may repeat what was to be sent, such as a header with a token in it.
 */
export function causesOf({ cause }: Error): readonly string[] {
  const lines: string[] = [];
  for (let each = cause; each instanceof Error && lines.length < 5; each = each.cause) {
    const { code } = each as { readonly code?: unknown };
    lines.push(`    caused by ${each.name}${typeof code === "string" ? `: ${code}` : ""}`);
  }
  return lines;
}

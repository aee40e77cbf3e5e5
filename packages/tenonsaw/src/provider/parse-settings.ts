import * as v from "valibot";
import { fail, type ProblemFinding } from "../problem/index.js";

/**
 * Reads settings by their schema and reports everything wrong with them at once.
 *
 * @throws provider.settings-refused with one finding per mistake; a misspelt key comes with the nearest known one
 */
export function parseSettings<Schema extends v.GenericSchema>(
  schema: Schema,
  settings: unknown,
): v.InferOutput<Schema> {
  const result = v.safeParse(schema, settings);
  if (result.success) return result.output;
  const described = result.issues.map((issue) => describeIssue(schema, issue));
  // The validator stops at the first name that an object does not have.
  const misspelt = unknownNames(schema as Node, settings, []).map((path) => describeUnknown(schema, path));
  const findings = [...described, ...misspelt].filter(
    (each, index, all) => all.findIndex(({ path }) => path === each.path) === index,
  );
  fail("provider.settings-refused", {
    received: findings.length === 1 ? "one mistake" : `${findings.length} mistakes`,
    findings,
  });
}

function describeIssue(schema: v.GenericSchema, issue: v.BaseIssue<unknown>): ProblemFinding {
  const path = (issue.path ?? []).map((item) => String((item as { key: unknown }).key));
  const shown = path.length === 0 ? "(settings)" : path.join(".");
  if (issue.type === "strict_object" && issue.expected === "never") return describeUnknown(schema, path);
  if (issue.received === "undefined") return { path: shown, message: "is missing" };
  // The schema's own words stand; the validator's would repeat the value, which may be a secret in the wrong place.
  const isOwn = !issue.message.startsWith("Invalid ");
  return { path: shown, message: isOwn ? issue.message : `expected ${issue.expected ?? "another value"}` };
}

function describeUnknown(schema: v.GenericSchema, path: readonly string[]): ProblemFinding {
  const nearest = nearestName(path.at(-1) ?? "", memberNames(schema, path.slice(0, -1)));
  return {
    path: path.join("."),
    message: `unknown setting${nearest === undefined ? "" : `, did you mean "${nearest}"?`}`,
  };
}

/** What is used here of a schema's own structure. */
interface Node {
  readonly type?: string;
  readonly entries?: Readonly<Record<string, Node>>;
  readonly value?: Node;
  readonly wrapped?: Node;
}

const unwrap = (node: Node | undefined): Node | undefined => (node?.wrapped ? unwrap(node.wrapped) : node);

/** The paths of all members that no schema knows. */
function unknownNames(
  schema: Node | undefined,
  value: unknown,
  path: readonly string[],
): readonly string[][] {
  const node = unwrap(schema);
  if (typeof value !== "object" || value === null || Array.isArray(value)) return [];
  const isStrict = node?.type === "strict_object";
  return Object.entries(value).flatMap(([name, member]) => {
    const known = node?.entries?.[name] ?? node?.value;
    if (known) return unknownNames(known, member, [...path, name]);
    return isStrict ? [[...path, name]] : [];
  });
}

/** The member names of the object schema found by walking along `path`. */
function memberNames(schema: v.GenericSchema, path: readonly string[]): readonly string[] {
  let node = unwrap(schema);
  for (const name of path) node = unwrap(node?.entries?.[name] ?? node?.value);
  return Object.keys(node?.entries ?? {});
}

/** The known name that differs by the fewest edits, if few enough to be a slip. */
export function nearestName(name: string, known: readonly string[]): string | undefined {
  const ranked = known
    .map((candidate) => ({ candidate, edits: editDistance(name.toLowerCase(), candidate.toLowerCase()) }))
    .sort((left, right) => left.edits - right.edits);
  const best = ranked[0];
  return best && best.edits <= Math.max(2, name.length / 3) ? best.candidate : undefined;
}

function editDistance(from: string, to: string): number {
  let row = Array.from({ length: to.length + 1 }, (_, index) => index);
  for (let i = 1; i <= from.length; i += 1) {
    const next = [i];
    for (let j = 1; j <= to.length; j += 1) {
      const change = (row[j - 1] ?? 0) + (from[i - 1] === to[j - 1] ? 0 : 1);
      next.push(Math.min(change, (row[j] ?? 0) + 1, (next[j - 1] ?? 0) + 1));
    }
    row = next;
  }
  return row[to.length] ?? 0;
}

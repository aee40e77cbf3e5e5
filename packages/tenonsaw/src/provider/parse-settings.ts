import * as v from "valibot";
import { fail, quoted, type ProblemFinding } from "../problem/index.js";
import { strayOf } from "./bare-text.js";

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
  // The validator stops at the first name that an object does not have, and takes lists, promises and the like for objects.
  const overlooked = lookInside(schema, schema, settings, []);
  if (result.success && overlooked.length === 0) return result.output;
  const described = (result.issues ?? []).flatMap((issue) => describeWithin(schema, issue));
  const all: readonly Found[] = [...overlooked, ...described];
  const findings = all.filter(
    ({ path }, index) =>
      // What is said of a whole is not said of its parts again.
      all.findIndex((each) => path === each.path || (each.isWhole && path.startsWith(`${each.path}.`))) ===
      index,
  );
  refuseSettings(...findings.map(({ path, message }) => ({ path, message })));
}

/** @throws provider.settings-refused */
export function refuseSettings(...findings: readonly ProblemFinding[]): never {
  const received = findings.length === 1 ? "one mistake" : `${findings.length} mistakes`;
  fail("provider.settings-refused", { received, findings });
}

interface Found extends ProblemFinding {
  /** Said of all that is in it, too. */
  readonly isWhole?: boolean;
}

/** Where there may be an object or something else, and there is an object: what is wrong inside. */
function describeWithin(schema: v.GenericSchema, issue: v.BaseIssue<unknown>): readonly ProblemFinding[] {
  const { input, path = [] } = issue;
  const node = issue.type === "union" && isPlain(input) ? nodeAt(schema, path.map(keyOf)) : undefined;
  const { issues } = node?.type === "strict_object" ? v.safeParse(node as v.GenericSchema, input) : {};
  if (!issues) return [describeIssue(schema, issue)];
  return issues.map((each) =>
    describeIssue(schema, { ...each, path: [...path, ...(each.path ?? [])] } as v.BaseIssue<unknown>),
  );
}

const keyOf = (item: { readonly key: unknown }) => String(item.key);
const isPlain = (value: unknown) => typeof value === "object" && value !== null && !Array.isArray(value);

function describeIssue(schema: v.GenericSchema, issue: v.BaseIssue<unknown>): ProblemFinding {
  const path = (issue.path ?? []).map(keyOf);
  const shown = path.length === 0 ? "(settings)" : path.join(".");
  if (issue.type === "strict_object" && issue.expected === "never") return describeUnknown(schema, path);
  if (issue.received === "undefined") return { path: shown, message: "is missing" };
  // The schema's own words stand; the validator's would repeat the value.
  const isOwn = !issue.message.startsWith("Invalid ");
  const expected = isOwn ? issue.message : expectationOf(issue);
  const last = issue.path?.at(-1) as { readonly origin: unknown; readonly value: unknown } | undefined;
  // A name that is not one stands in the path itself.
  if (last?.origin === "key") return { path: shown, message: expected };
  const value = last ? last.value : issue.input;
  // What is wrong with an object as a whole is not that it is one.
  if (issue.type === "check" && typeof value === "object") return { path: shown, message: expected };
  // A number where one belongs is no secret; elsewhere it may be.
  const isOfNumber = ["min_value", "max_value", "integer"].includes(issue.type);
  const known = isOfNumber ? String(value) : (whatIs(value) ?? (isOwn ? undefined : "a text"));
  const is = known?.includes("empty") && expected.includes("empty") ? undefined : known;
  return { path: shown, message: is === undefined ? expected : `${expected}, and is ${is}` };
}

/** What the validator calls them. */
const kinds: Readonly<Record<string, string>> = {
  string: "a text",
  number: "a number",
  boolean: "true or false",
  Array: "a list",
  Object: "an object",
};

function expectationOf({ type, expected, requirement }: v.BaseIssue<unknown>): string {
  if (type === "min_length") return "must not be empty";
  if (type === "integer") return "must be a whole number";
  if (type.endsWith("_value"))
    return `must be at ${type === "min_value" ? "least" : "most"} ${requirement as number}`;
  // One of several: `(string | number | "any")`.
  const each = expected?.match(/[^ |()]+/g) ?? [];
  return `must be ${each.map((kind) => kinds[kind] ?? kind).join(" or ")}`;
}

const strays = {
  "white-space": "a text with white space at an end",
  quotes: "a text with quotes around it",
  variable: "a placeholder that nothing has filled",
  placeholder: "a placeholder that nothing has filled",
};

/** What stands there, where it can be said: a text only where it looks like an address, as it may be a secret in the wrong place. */
function whatIs(value: unknown): string | undefined {
  if (Array.isArray(value)) return value.length === 0 ? "an empty list" : "a list";
  if (value === null || typeof value === "boolean" || Number.isNaN(value)) return String(value);
  if (typeof value === "object") return "an object";
  if (typeof value !== "string") return value === undefined ? undefined : `a ${typeof value}`;
  if (value === "") return "empty";
  const stray = strayOf(value);
  if (stray !== undefined) return strays[stray];
  const isAddress = /^([a-z]+:\/\/|localhost\b)[^@?#\s]{0,80}$|^\/[a-z0-9/_.*-]{0,80}$/.test(value);
  return isAddress ? quoted(value) : undefined;
}

function describeUnknown(schema: v.GenericSchema, path: readonly string[]): ProblemFinding {
  const name = path.at(-1) ?? "";
  if (/^redirect_?uris?$/i.test(name))
    return {
      path: path.join("."),
      message: "is no setting: it is made of `origin` and the provider's name, and tenonsaw sheet prints it",
    };
  const nearest = nearestName(name, Object.keys(nodeAt(schema, path.slice(0, -1))?.entries ?? {}));
  const [elsewhere] = placesOf(schema, name).toSorted((left, right) => left.length - right.length);
  return {
    path: path.join("."),
    message: `unknown setting${
      nearest !== undefined
        ? `, did you mean "${nearest}"?`
        : elsewhere === undefined
          ? ""
          : ` here: it belongs to ${elsewhere}`
    }`,
  };
}

/** What is used here of a schema's own structure. */
interface Node {
  readonly type?: string;
  readonly entries?: Readonly<Record<string, Node>>;
  readonly value?: Node;
  readonly wrapped?: Node;
  readonly options?: readonly Node[];
}

/** The schema itself; of several the one for an object, if there is just one. */
function unwrap(node: Node | undefined): Node | undefined {
  if (node?.wrapped) return unwrap(node.wrapped);
  const [only, ...more] = node?.options?.filter(({ type }) => type === "strict_object") ?? [];
  return only && more.length === 0 ? only : node;
}

/** All members that no schema knows, and all that is no plain object where there has to be one: it would ask for nothing. */
function lookInside(
  schema: v.GenericSchema,
  part: Node | undefined,
  value: unknown,
  path: readonly string[],
): readonly Found[] {
  const node = unwrap(part);
  if (typeof value !== "object" || value === null) return [];
  const isStrict = node?.type === "strict_object";
  const kind = Object.prototype.toString.call(value).slice(8, -1);
  if (kind !== "Object" && kind !== "Module") {
    if (!isStrict && node?.type !== "record") return [];
    const is = { Array: "a list", Promise: "a promise: await it" }[kind] ?? `of the kind ${kind}`;
    const message = `must be an object, with names, and is ${is}`;
    return [{ path: path.join(".") || "(settings)", message, isWhole: true }];
  }
  return Object.entries(value).flatMap(([name, member]) => {
    const { entries = {}, value: each } = node ?? {};
    const known = Object.hasOwn(entries, name) ? entries[name] : each;
    if (known) return lookInside(schema, known, member, [...path, name]);
    return isStrict ? [describeUnknown(schema, [...path, name])] : [];
  });
}

/** The schema found by walking along `path`. */
function nodeAt(schema: v.GenericSchema, path: readonly string[]): Node | undefined {
  let node = unwrap(schema);
  for (const name of path) node = unwrap(node?.entries?.[name] ?? node?.value);
  return node;
}

/** Where settings of this name are, each as in `providers.<name>.clientId`. */
function placesOf(part: Node | undefined, name: string): readonly string[] {
  const node = unwrap(part);
  const inside = node?.value ? [["<name>", node.value] as const] : Object.entries(node?.entries ?? {});
  return inside.flatMap(([own, member]) =>
    own === name ? [own] : placesOf(member, name).map((below) => `${own}.${below}`),
  );
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

import { wordsIn } from "../platform/index.js";
import * as v from "valibot";
import { findAt, isWithin, ownMembers, parseSettings, pointer, refuseSettings } from "../provider/index.js";
import { fail, quoted, quotedList } from "../problem/index.js";
import type { Caller } from "./caller.js";
import { shapeOf, type Step } from "../trace/index.js";

/**
 * What a call requires: a plain object with one member at least. A list may be a text with spaces as well; members that are left out
 * require nothing.
 */
export interface CallNeeds {
  /** All of these scopes. */
  readonly scope?: string | readonly string[];
  /** One of these scopes. */
  readonly anyScope?: string | readonly string[];
  /** All of these roles. */
  readonly role?: string | readonly string[];
  /** One of these roles. */
  readonly anyRole?: string | readonly string[];
  /** All of these permissions. */
  readonly permission?: string | readonly string[];
  /** One of these permissions. */
  readonly anyPermission?: string | readonly string[];
  /** By JSON Pointer (RFC 6901) the value that a claim has, or a function that judges it: `{ "/tenant": "rowing-club" }`. */
  readonly claims?: Readonly<Record<string, string | number | boolean | ((value: unknown) => boolean)>>;
  /** The person has proved who they are in one of these ways (`acr`). */
  readonly acrValues?: string | readonly string[];
  /** The person has proved who they are at most so many seconds ago. */
  readonly maxAge?: number;
  /** For a person, or by a client for itself. */
  readonly caller?: "person" | "client";
  /** Who may act for the subject: nobody, or these subjects or clients. Left out, anybody whom the issuer let. */
  readonly actor?: "nobody" | readonly string[];
  /** The token is bound to a key or a certificate. */
  readonly bound?: true;
}

/** That any caller with a valid token will do, whoever it is and whatever the token allows. It is never meant by leaving something out. */
export type AnyCaller = "any-caller";

/** What a route requires, or a function that says it for each call: by the operation of a GraphQL-like route, say. */
export type NeedsFor<Call> =
  CallNeeds | AnyCaller | ((call: Call) => CallNeeds | AnyCaller | Promise<CallNeeds | AnyCaller>);

const text = v.pipe(v.string(), v.regex(/[^ ]/, "must not be empty"));
const names = v.exactOptional(
  v.union(
    [text, v.pipe(v.array(text), v.minLength(1))],
    "must be a text with spaces, or a list, and name one at least",
  ),
);
const schema = v.object({
  needs: v.strictObject({
    scope: names,
    anyScope: names,
    role: names,
    anyRole: names,
    permission: names,
    anyPermission: names,
    claims: v.exactOptional(
      v.record(
        pointer,
        v.union(
          [v.string(), v.number(), v.boolean(), v.custom<never>((value) => typeof value === "function")],
          "must be a text, a number, true, false or a function",
        ),
      ),
    ),
    acrValues: names,
    maxAge: v.exactOptional(v.pipe(v.number(), v.minValue(0))),
    caller: v.exactOptional(v.picklist(["person", "client"], 'must be "person" or "client"')),
    actor: v.exactOptional(
      v.union([v.literal("nobody"), v.array(text)], 'must be "nobody", or a list of subjects and clients'),
    ),
    bound: v.exactOptional(v.literal(true, "must be true, or left out")),
  }),
});

/** Copies that were made and frozen here: of these nothing can change. */
const known = new WeakSet<object>();

const nothing: CallNeeds = Object.freeze({});
known.add(nothing);

/**
 * What a call requires decides who is let in. What is absent, empty, inherited or unknown requires nothing, and so it is refused;
 * what was read is a copy that nothing changes later.
 *
 * @throws provider.settings-refused
 */
export function readNeeds(given: unknown): CallNeeds {
  if (given === ("any-caller" satisfies AnyCaller)) return nothing;
  if (typeof given !== "object" || given === null || Array.isArray(given))
    refuseSettings({
      path: "needs",
      message: `${given === undefined ? "is missing" : `is ${shapeOf(given)}`}: say what the call requires, such as { scope: "tides.read" }, or "any-caller" where every valid token will do`,
    });
  if (known.has(given)) return given;
  // `takes` in the place of what `takes(needs)` gives: the framework has called it with a request.
  if ("headers" in given || "req" in given)
    refuseSettings({
      path: "needs",
      message: "is a request: hand over what takes(needs) gives, and not takes",
    });
  const needs = Object.freeze(readMembers(given));
  known.add(needs);
  return needs;
}

function readMembers(given: object): CallNeeds {
  const members = ownMembers("needs", given);
  const names = Object.keys(members);
  const { scope } = members;
  // As nearly all are.
  if (names.length === 1 && typeof scope === "string" && /[^ ]/.test(scope)) return { scope };
  if (names.length === 0)
    refuseSettings({
      path: "needs",
      message: 'is empty: say what the call requires, or "any-caller" where every valid token will do',
    });
  const { claims } = members;
  const isRecord = typeof claims === "object" && claims !== null && !Array.isArray(claims);
  const { needs } = parseSettings(schema, {
    needs: { ...members, ...(isRecord && { claims: ownMembers("needs.claims", claims) }) },
  });
  for (const each of Object.values(needs)) if (typeof each === "object") Object.freeze(each);
  return needs;
}

/** What a call requires, or what tells it: asked once it is known who calls, for it is the app's own work. */
export type AskedNeeds = CallNeeds | (() => Promise<CallNeeds>);

/** What each call requires, by what a route says: a value is read here, at once; the answers of a function with each call. */
export function needsOf<Call>(needs: NeedsFor<Call>): (call: Call) => AskedNeeds {
  if (typeof needs === "function") return (call) => async () => readNeeds(await needs(call));
  const taken = readNeeds(needs);
  return () => taken;
}

export function namesIn(value: string | readonly string[] | undefined): readonly string[] {
  return typeof value === "object" ? value : wordsIn(value);
}

const listed = (names: readonly string[]) => quotedList(names) ?? "none";

/** A text in quotes, anything else as JSON has it. */
const shown = (value: unknown) =>
  value === undefined ? "absent" : typeof value === "string" ? quoted(value) : quoted(value).slice(1, -1);

/** Whether a call takes nothing but scopes, and the caller has them: nearly always, and then there is nothing to tell. */
export function hasPlainly(needs: CallNeeds, { scope }: Caller): boolean {
  for (const name in needs) if (name !== "scope") return false;
  const wanted = needs.scope;
  if (wanted === undefined) return true;
  if (typeof wanted === "string" && !wanted.includes(" ")) return scope.includes(wanted);
  return namesIn(wanted).every((each) => scope.includes(each));
}

/** Holds a caller to what a call takes. */
export function* judgeNeeds(needs: CallNeeds, caller: Caller, now: number): Generator<Step> {
  yield* judgeNames("guard.scope-missing", "scopes", needs.scope, needs.anyScope, caller.scope, caller);
  yield* judgeNames("guard.role-missing", "roles", needs.role, needs.anyRole, caller.roles, caller);
  yield* judgeNames(
    "guard.role-missing",
    "permissions",
    needs.permission,
    needs.anyPermission,
    caller.permissions,
    caller,
  );
  for (const [pointer, wanted] of Object.entries(needs.claims ?? {})) {
    const value = findAt(pointer, caller.claims);
    yield {
      code: "guard.claim-refused",
      holds: typeof wanted === "function" ? verdictOf(pointer, wanted(value)) : value === wanted,
      detail: () => ({
        received: `${pointer} ${shown(value)}`,
        expected:
          typeof wanted === "function"
            ? `a value of ${pointer} that the route takes`
            : `${pointer} ${shown(wanted)}`,
      }),
    };
  }
  if (needs.caller !== undefined)
    yield {
      code: "guard.caller-refused",
      holds: caller.kind === needs.caller,
      detail: () => ({
        received: caller.kind === "person" ? "a call for a person" : "a call by a client for itself",
        expected: needs.caller === "person" ? "a call for a person" : "a call by a client for itself",
      }),
    };
  if (needs.actor !== undefined) yield judgeActor(needs.actor, caller);
  if (needs.bound === true)
    yield {
      code: "guard.binding-mismatch",
      holds: caller.boundTo !== "nothing",
      detail: () => ({ received: "a token that is bound to nothing", because: "needed-here" }),
    };
  yield* judgeAuthentication(needs, caller, now);
}

/** A promise, or a number, is no verdict: it must not pass for one. */
function verdictOf(pointer: string, answer: unknown): boolean {
  if (typeof answer === "boolean") return answer;
  return fail("server.hook-unusable", {
    received: `the function for the claim ${quoted(pointer, 60)} answered ${shapeOf(answer)}`,
    expected: "true or false, at once",
    because: answer instanceof Promise ? "promise" : undefined,
  });
}

function* judgeNames(
  code: "guard.scope-missing" | "guard.role-missing",
  what: string,
  all: string | readonly string[] | undefined,
  any: string | readonly string[] | undefined,
  held: readonly string[],
  { claims }: Caller,
): Generator<Step> {
  const because = held.length === 0 ? { because: "nothing-there" } : {};
  const has = () =>
    held.length === 0
      ? `${what} none; it has the claims ${listed(Object.keys(claims))}`
      : `${what} ${listed(held)}`;
  if (all !== undefined) {
    const wanted = namesIn(all);
    yield {
      code,
      holds: wanted.every((each) => held.includes(each)),
      detail: () => ({
        received: `${has()}; lacking ${listed(wanted.filter((each) => !held.includes(each)))}`,
        expected: `${what} ${listed(wanted)}`,
        ...because,
      }),
    };
  }
  if (any !== undefined) {
    const wanted = namesIn(any);
    yield {
      code,
      holds: wanted.some((each) => held.includes(each)),
      detail: () => ({
        received: has(),
        expected: `one of the ${what} ${listed(wanted)}`,
        ...because,
      }),
    };
  }
}

/** RFC 8693 section 4.1: only the outermost actor acts; those inside say who did before, and are not to be judged by. */
function judgeActor(admitted: "nobody" | readonly string[], { actors: [actor] }: Caller): Step {
  const isAdmitted = () =>
    admitted !== "nobody" &&
    [actor?.subject, actor?.clientId].some((name) => name !== undefined && admitted.includes(name));
  return {
    code: "guard.actor-refused",
    holds: actor === undefined || isAdmitted(),
    detail: () => ({
      received: actor === undefined ? "no actor" : `the actor ${quoted(actor.subject ?? actor.clientId)}`,
      expected: admitted === "nobody" ? "no actor" : `no actor, or one of ${listed(admitted)}`,
    }),
  };
}

/** RFC 9470 sections 3 and 6. */
function* judgeAuthentication(
  { acrValues, maxAge }: CallNeeds,
  caller: Caller,
  now: number,
): Generator<Step> {
  const code = "guard.authentication-insufficient";
  if (acrValues !== undefined) {
    const wanted = namesIn(acrValues);
    const { authenticationClass: acr } = caller;
    yield {
      code,
      holds: acr !== undefined && wanted.includes(acr),
      detail: () => ({
        received: acr === undefined ? "no `acr`" : `acr ${quoted(acr)}`,
        expected: `acr ${wanted.join(" or ")}`,
        because: acr === undefined ? "absent" : "class",
      }),
    };
  }
  if (maxAge !== undefined) {
    const { authenticatedAt } = caller;
    const age = authenticatedAt === undefined ? Number.NaN : now - authenticatedAt;
    yield {
      code,
      holds: isWithin(maxAge, age),
      detail: () => ({
        received: Number.isNaN(age)
          ? "no `auth_time`"
          : `${Math.round(age)} s since the person proved who they are`,
        expected: `at most ${maxAge} s`,
        because: Number.isNaN(age) ? "absent" : "age",
      }),
    };
  }
}

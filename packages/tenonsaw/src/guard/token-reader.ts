import { decodeJws, type DecodedJws } from "../jose/index.js";
import { fail } from "../problem/index.js";
import type { Tools } from "../trace/index.js";
import { callerOf, type Caller } from "./caller.js";
import { Introspector } from "./introspect.js";
import { findFormat, findIssuer, hold, judgeIntrospection, judgeTimes, judgeToken } from "./judge.js";
import { readable, type IssuerDoor } from "./token-issuer.js";

/** What a token is bound to, by thumbprint; nothing where whoever bears it may use it. */
export interface Binding {
  readonly jkt?: string;
  readonly certificate?: string;
}

/** Whose a token is, once it is believed. */
export interface ReadToken {
  readonly caller: Caller;
  readonly binding: Binding;
  readonly door: IssuerDoor;
  /** When it was first judged: what was good then begins no later. */
  readonly since: number;
}

export const unbound: Binding = {};

/** Reads access tokens, signed and opaque. One that was read before costs a look at the clock. */
export class TokenReader {
  readonly #tools: Tools;
  readonly #doors: readonly IssuerDoor[];
  readonly #introspector: Introspector | undefined;
  readonly #opaqueDoor: IssuerDoor | undefined;
  /** By what was decoded or answered, which is the same object for as long as it counts. */
  readonly #known = new WeakMap<object, ReadToken>();

  constructor(tools: Tools, doors: readonly IssuerDoor[]) {
    this.#tools = tools;
    this.#doors = doors;
    this.#opaqueDoor = doors.find((door) => door.settings.introspection !== undefined);
    this.#introspector = this.#opaqueDoor && new Introspector(tools, this.#opaqueDoor);
  }

  /** @throws guard.* */
  read(token: string): ReadToken | Promise<ReadToken> {
    for (const door of this.#doors) {
      const decoded = door.remembered(token);
      if (decoded) return this.#judgeSigned(door, decoded);
    }
    return looksSigned(token) ? this.#readSigned(token) : this.#readOpaque(token);
  }

  async #readSigned(token: string): Promise<ReadToken> {
    // Whose it says it is decides by whose keys it is verified; nothing else of it counts before.
    const unbelieved = decode(token);
    const door = findIssuer(this.#tools, this.#doors, unbelieved.payload);
    return this.#judgeSigned(door, await door.verify(token, unbelieved));
  }

  #judgeSigned(door: IssuerDoor, decoded: DecodedJws): ReadToken {
    const found = this.#known.get(decoded);
    const at = this.#tools.platform.now();
    // As nearly always: nothing but the clock goes on, and nobody listens.
    if (found && at < (found.caller.expiresAt ?? 0) && at >= found.since && !this.#tools.trace) return found;
    const now = { now: at, clockAhead: door.clockAhead };
    if (found) {
      hold(this.#tools, judgeTimes(decoded.payload, now));
      return found;
    }
    const format = findFormat(door.settings, decoded.payload);
    hold(this.#tools, judgeToken(door.settings, format, decoded, now));
    return this.#keep(decoded, door, callerOf(decoded.payload, format));
  }

  async #readOpaque(token: string): Promise<ReadToken> {
    const [introspector, door] = [this.#introspector, this.#opaqueDoor];
    if (!introspector || !door) {
      const parts = token.split(".", 6).length;
      return fail("guard.token-unreadable", {
        received: `a token of ${token.length} characters in ${parts} part${parts === 1 ? "" : "s"}`,
        because: parts === 1 ? "opaque" : parts === 5 ? "encrypted" : undefined,
      });
    }
    const claims = await introspector.claimsOf(token);
    const now = { now: this.#tools.platform.now(), clockAhead: door.clockAhead };
    const found = this.#known.get(claims);
    if (found) {
      hold(this.#tools, judgeTimes(claims, now));
      return found;
    }
    const format = findFormat(door.settings, { iss: door.settings.issuer, ...claims });
    hold(this.#tools, judgeIntrospection(door.settings, format, claims, now));
    return this.#keep(claims, door, callerOf(claims, format));
  }

  #keep(from: object, door: IssuerDoor, caller: Caller): ReadToken {
    const made = { caller, binding: bindingOf(caller), door, since: this.#tools.platform.now() };
    this.#known.set(from, made);
    return made;
  }
}

/** @throws guard.binding-mismatch where it is bound in a way that cannot be checked: passed over, it would be bound to nothing */
function bindingOf({ claims: { cnf } }: Caller): Binding {
  if (cnf === undefined) return unbound;
  const { jkt, "x5t#S256": certificate } = cnf as Readonly<Record<string, unknown>>;
  const isText = (value: unknown): value is string => typeof value === "string" && value !== "";
  const isSound = [jkt, certificate].every((each) => each === undefined || isText(each));
  if (!isSound || (jkt ?? certificate) === undefined)
    fail("guard.binding-mismatch", {
      received: `\`cnf\` with ${
        Object.keys(cnf as object)
          .slice(0, 10)
          .join(", ") || "nothing in it"
      }`,
      because: "unknown",
    });
  return { ...(isText(jkt) && { jkt }), ...(isText(certificate) && { certificate }) };
}

/** A JWT begins with a brace, encoded, and has dots in it: anything else is for its issuer to read. */
function looksSigned(token: string): boolean {
  return token.startsWith("ey") && token.includes(".");
}

function decode(token: string): DecodedJws {
  try {
    return decodeJws(token);
  } catch (error) {
    throw readable(error, token);
  }
}

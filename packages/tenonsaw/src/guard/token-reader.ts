import QuickLRU from "quick-lru";
import { decodeBase64url, decodeJws, freezeDeeply, type DecodedJws, type JsonObject } from "../jose/index.js";
import { onceKnown, type EngineKey } from "../platform/index.js";
import { fail } from "../problem/index.js";
import type { Tools } from "../trace/index.js";
import { callerOf, isText, type Caller } from "./caller.js";
import { requireToken, type TokenCredentials } from "./credentials.js";
import { Introspector } from "./introspect.js";
import {
  findFormat,
  findIssuer,
  hold,
  holdsPlainly,
  judgeIntrospection,
  judgeTimes,
  judgeToken,
} from "./judge.js";
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

/** A signed token, and the key of its issuer's that it was verified by. */
interface Held {
  readonly token: string;
  readonly read: ReadToken;
  readonly key: EngineKey;
}

/** So many tokens are remembered at least, and twice as many at most; those used longest ago go first. */
const mostHeld = 10_000;

/** Reads access tokens, signed and opaque. One that was read before costs a look at the clock. */
export class TokenReader {
  readonly #tools: Tools;
  readonly #doors: readonly IssuerDoor[];
  readonly #introspector: Introspector | undefined;
  readonly #opaqueDoor: IssuerDoor | undefined;
  /** By the end of the signature, which is found sooner than the whole: no two that hold have the same. */
  readonly #held = new QuickLRU<string, Held>({ maxSize: mostHeld });
  /** By what an issuer said of an opaque token, which is the same object for as long as it counts. */
  readonly #known = new WeakMap<JsonObject, ReadToken>();

  constructor(tools: Tools, doors: readonly IssuerDoor[]) {
    this.#tools = tools;
    this.#doors = doors;
    this.#opaqueDoor = doors.find((door) => door.settings.introspection !== undefined);
    this.#introspector = this.#opaqueDoor && new Introspector(tools, this.#opaqueDoor);
  }

  /**
   * What a signed token said when it was read before, as long as it counts; undefined for every other.
   *
   * @throws guard.*
   */
  recall(token: string): ReadToken | undefined {
    const held = this.#held.get(endOf(token));
    const holds = held?.token === token && held.read.door.counts(held.key);
    return holds ? this.#again(held.read) : undefined;
  }

  /** @throws guard.* */
  read(credentials: TokenCredentials): ReadToken | Promise<ReadToken> {
    return looksSigned(credentials.token) ? this.#readSigned(credentials) : this.#readOpaque(credentials);
  }

  #again(read: ReadToken): ReadToken {
    const { caller, door, since } = read;
    const now = this.#tools.platform.now();
    // As nearly always: nothing but the clock goes on, and nobody listens.
    if (now >= (caller.expiresAt ?? 0) || now < since || this.#tools.trace)
      hold(this.#tools, judgeTimes(caller.claims, { now, clockAhead: door.clockAhead }));
    return read;
  }

  #readSigned(credentials: TokenCredentials): ReadToken | Promise<ReadToken> {
    // Whose it says it is decides by whose keys it is verified; nothing else of it counts before.
    const decoded = decode(credentials);
    const door = findIssuer(this.#tools, this.#doors, decoded.payload);
    return onceKnown(door.verify(decoded), (key) => this.#believe(credentials.token, decoded, door, key));
  }

  /** A token whose signature holds. */
  #believe(token: string, { header, payload }: DecodedJws, door: IssuerDoor, key: EngineKey): ReadToken {
    const now = this.#tools.platform.now();
    const format = findFormat(door.settings, payload);
    const [{ settings }, parts, times] = [door, { header, payload }, { now, clockAhead: door.clockAhead }];
    if (this.#tools.trace || !holdsPlainly(settings, format, parts, times))
      hold(this.#tools, judgeToken(settings, format, parts, times));
    // All calls with this token share what is remembered: none may change it for the others.
    const caller = callerOf(freezeDeeply(payload), format);
    const read = { caller, binding: bindingOf(caller), door, since: now };
    this.#held.set(endOf(token), { token, read, key });
    return read;
  }

  async #readOpaque(credentials: TokenCredentials): Promise<ReadToken> {
    requireToken(credentials);
    const { token } = credentials;
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
    if (found) return this.#again(found);
    const format = findFormat(door.settings, { iss: door.settings.issuer, ...claims });
    hold(this.#tools, judgeIntrospection(door.settings, format, claims, now));
    const caller = callerOf(claims, format);
    const read = { caller, binding: bindingOf(caller), door, since: now.now };
    this.#known.set(claims, read);
    return read;
  }
}

/** @throws guard.binding-mismatch where it is bound in a way that cannot be checked: passed over, it would be bound to nothing */
function bindingOf({ claims: { cnf } }: Caller): Binding {
  if (cnf === undefined) return unbound;
  const { jkt, "x5t#S256": certificate } = cnf as Readonly<Record<string, unknown>>;
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

const endOf = (token: string) => token.slice(-43);

/**
 * A JWT has dots in it, and before the first of them a JSON object, encoded, which white space may come before (RFC 7515 section 3,
 * RFC 8259 section 2). Anything else is for its issuer to read; a JWT is never sent anywhere.
 */
function looksSigned(token: string): boolean {
  const dot = token.indexOf(".");
  if (dot < 0 || token.startsWith("ey")) return dot > 0;
  try {
    return /^[ \t\r\n]*\{/.test(new TextDecoder().decode(decodeBase64url(token.slice(0, dot), "header")));
  } catch {
    return false;
  }
}

function decode(credentials: TokenCredentials): DecodedJws {
  try {
    return decodeJws(credentials.token);
  } catch (error) {
    // What can be taken apart has a token's form.
    requireToken(credentials);
    throw readable(error);
  }
}

import type { JsonObject } from "../jose/index.js";
import { findAt, type Pointers } from "../provider/index.js";
import type { TokenFormat } from "./settings-types.js";

/** Somebody who acts for the subject: RFC 8693 section 4.1. */
export interface Actor {
  readonly subject?: string;
  readonly clientId?: string;
}

/** Who calls, as plain data that may be logged: the token is not in it. The same object for every call with one token. */
export interface Caller {
  /** Absent for a request signed by OAuth 1.0a, which has no issuer. */
  readonly issuer?: string;
  /** `sub`; absent where a client calls for itself and the issuer says no more. */
  readonly subject?: string;
  readonly clientId?: string;
  /** For a person, or by a client for itself: then the subject is the client, or there is none (RFC 9068 section 2.2). */
  readonly kind: "person" | "client";
  readonly scope: readonly string[];
  readonly roles: readonly string[];
  readonly permissions: readonly string[];
  readonly audience: readonly string[];
  /** Seconds since the epoch; absent where the token does not end by itself. */
  readonly expiresAt?: number;
  /** When and how the person proved who they are: `auth_time`, `acr`. */
  readonly authenticatedAt?: number;
  readonly authenticationClass?: string;
  /** Who acts for the subject, the one who calls first. */
  readonly actors: readonly Actor[];
  /** What only its owner has and the call came with: a key (RFC 9449), a certificate (RFC 8705), or a shared secret (RFC 5849). */
  readonly boundTo: "nothing" | "key" | "certificate" | "secret";
  /** All claims of the token, or what the issuer's introspection said; frozen. */
  readonly claims: JsonObject;
}

export const isText = (value: unknown): value is string => typeof value === "string" && value !== "";

const none: readonly never[] = Object.freeze([]);

/** Text with spaces, or a list of texts (RFC 9068 section 2.2.3, RFC 6749 section 3.3). */
export function listOf(value: unknown): readonly string[] {
  if (Array.isArray(value)) return Object.freeze(value.filter(isText));
  if (!isText(value)) return none;
  return Object.freeze(value.includes(" ") ? value.split(" ").filter(isText) : [value]);
}

/** Where issuers say which client it is: `client_id` (RFC 9068 section 2.2), and names in use beside it. */
const clientClaims = ["client_id", "azp", "cid", "appid"];

type Writable<Type> = { -readonly [Member in keyof Type]: Type[Member] };

/** What claims, frozen, say of whoever calls. It is made for every token that comes for the first time. */
export function callerOf(claims: JsonObject, { scope, roles, permissions }: TokenFormat): Caller {
  const { iss, sub, client_id, aud, exp, auth_time, acr, cnf } = claims;
  const textAt = (pointers: Pointers | undefined, usual: string) =>
    pointers === undefined ? listOf(claims[usual]) : listOf(findAt(pointers, claims));
  const bound = cnf as { jkt?: unknown; "x5t#S256"?: unknown } | undefined;
  const caller: Writable<Caller> = {
    kind: !isText(sub) || clientClaims.some((name) => claims[name] === sub) ? "client" : "person",
    scope: textAt(scope, "scope"),
    roles: textAt(roles, "roles"),
    permissions: textAt(permissions, "permissions"),
    audience: isText(aud) ? Object.freeze([aud]) : listOf(aud),
    actors: actorsOf(claims["act"]),
    boundTo: bound?.jkt !== undefined ? "key" : bound?.["x5t#S256"] !== undefined ? "certificate" : "nothing",
    claims,
  };
  if (isText(iss)) caller.issuer = iss;
  if (isText(sub)) caller.subject = sub;
  if (isText(client_id)) caller.clientId = client_id;
  if (typeof exp === "number") caller.expiresAt = exp;
  if (typeof auth_time === "number") caller.authenticatedAt = auth_time;
  if (isText(acr)) caller.authenticationClass = acr;
  return Object.freeze(caller);
}

/** The one who acts now is the outermost; those inside acted before. The claims are at most 32 levels deep. */
function actorsOf(act: unknown): readonly Actor[] {
  if (typeof act !== "object" || act === null) return none;
  const { sub, client_id, act: before } = act as Record<string, unknown>;
  const actor = { ...(isText(sub) && { subject: sub }), ...(isText(client_id) && { clientId: client_id }) };
  return Object.freeze([Object.freeze(actor), ...actorsOf(before)]);
}

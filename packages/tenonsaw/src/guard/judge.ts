import type { JsonObject, JwsHeader } from "../jose/index.js";
import { isInstant } from "../platform/index.js";
import { fail, quoted, quotedList } from "../problem/index.js";
import {
  clockToleranceSeconds,
  differsBecause,
  findAt,
  isAudience,
  isIssuerOf,
  oddClaims,
  type ClaimRules,
} from "../provider/index.js";
import { check, shapeOf, takeStep, type Step, type Tools } from "../trace/index.js";
import { isText, listOf } from "./caller.js";
import type { ResolvedIssuer, TokenFormat } from "./settings-types.js";

/** Takes each step in turn; what does not hold is thrown. */
export function hold(tools: Tools, steps: Iterable<Step>): void {
  for (const step of steps) takeStep(tools, step);
}

/** What a token is judged by beside what it says. */
export interface Now {
  readonly now: number;
  /** By how many seconds the issuer's clock is ahead of this one, where that is known. */
  readonly clockAhead?: number | undefined;
}

/** One way in which an issuer's tokens are made, by name; the one of the issuer itself has none. */
export interface NamedFormat extends TokenFormat {
  readonly name?: string;
  readonly issuer: string;
  readonly audience: readonly string[];
}

/** The issuer's own format, then the further ones; what a further one does not say is as in the first. */
export function formatsOf(settings: ResolvedIssuer): readonly NamedFormat[] {
  const known = formats.get(settings) ?? listFormats(settings);
  formats.set(settings, known);
  return known;
}

const formats = new WeakMap<ResolvedIssuer, readonly NamedFormat[]>();

function listFormats(settings: ResolvedIssuer): readonly NamedFormat[] {
  const further = Object.entries(settings.formats).map(([name, { audience, ...format }]) => ({
    ...settings,
    claims: undefined,
    refused: undefined,
    ...format,
    issuer: format.issuer ?? settings.issuer,
    audience: audience === undefined ? settings.audience : [audience].flat(),
    name,
  }));
  return [settings, ...further];
}

function isOf({ tenants }: ResolvedIssuer, { issuer }: NamedFormat, iss: unknown): boolean {
  if (typeof iss !== "string") return false;
  // A format may spell the issuer without the tenant.
  return tenants && issuer.includes(tenants.placeholder)
    ? isIssuerOf({ issuer, deviations: { tenants } }, iss)
    : iss === issuer;
}

const hasClaims = ({ claims = {} }: NamedFormat, payload: JsonObject): boolean =>
  Object.entries(claims).every(([name, value]) => payload[name] === value);

/**
 * Whose token it says it is: RFC 9068 section 4, compared as text. Before anything of it is believed, for the keys that
 * could prove it are that issuer's (RFC 8725 section 3.8).
 *
 * @throws guard.issuer-unknown
 */
export function findIssuer<Issuer extends { readonly settings: ResolvedIssuer }>(
  tools: Tools,
  issuers: readonly Issuer[],
  { iss }: JsonObject,
): Issuer {
  const found = issuers.find(({ settings }) =>
    formatsOf(settings).some((format) => isOf(settings, format, iss)),
  );
  check(tools, "guard.issuer-unknown", found !== undefined, () => describeIssuer(issuers, iss));
  return found ?? fail("guard.issuer-unknown");
}

/** A claim that is not there, or names nobody. */
const noText = (name: string, value: unknown) =>
  value === undefined ? `no \`${name}\`` : `an \`${name}\` that is ${shapeOf(value)}`;

function describeIssuer(issuers: readonly { readonly settings: ResolvedIssuer }[], iss: unknown) {
  const settings = issuers.map((each) => each.settings);
  const names = [...new Set(settings.flatMap((each) => formatsOf(each).map(({ issuer }) => issuer)))];
  const expected = names.map((name) => quoted(name)).join(" or ");
  if (typeof iss !== "string") return { received: noText("iss", iss), expected, because: "absent" } as const;
  const place = nameOf(settings, iss);
  if (place !== undefined)
    return { received: `${quoted(iss)}, which is ${place}`, expected, because: "environment" } as const;
  const isTenant = settings.some(
    (each) => each.tenants && isOf({ ...each, tenants: { ...each.tenants, admitted: "any" } }, each, iss),
  );
  if (isTenant) {
    const admitted = settings.flatMap(({ tenants }) => (tenants ? tenants.admitted : []));
    return {
      received: quoted(iss),
      expected: `one of the tenants ${[admitted].flat().join(", ")}`,
      because: "tenant",
    } as const;
  }
  const near = names
    .map((name) => differsBecause(iss, name))
    .find((each) => each !== "elsewhere" && each !== "placeholder");
  return { received: quoted(iss), expected, because: near };
}

/** What another issuer or audience is called in the settings. */
function nameOf(settings: readonly ResolvedIssuer[], value: string): string | undefined {
  return settings
    .flatMap(({ elsewhere }) => Object.entries(elsewhere))
    .find(([, other]) => other === value)?.[0];
}

const isForUs = ({ audience }: NamedFormat, { aud }: JsonObject) =>
  audience.some((name) => isAudience(aud, name));

/**
 * The format that a token of this issuer has: the first that fits it in all; or else, for the sake of the refusal, the one
 * that it comes nearest to.
 */
export function findFormat(settings: ResolvedIssuer, payload: JsonObject): NamedFormat {
  const all = formatsOf(settings);
  if (all.length === 1) return settings;
  const near = all.filter((format) => isOf(settings, format, payload["iss"]) && hasClaims(format, payload));
  return near.find((format) => isForUs(format, payload)) ?? near[0] ?? settings;
}

const idTokenClaims = ["nonce", "at_hash", "c_hash", "s_hash"];
const logoutEvent = "http://schemas.openid.net/event/backchannel-logout";

/** Which kind of token it is, where it is another than an access token: by its type first, then by what only that kind has. */
function otherKind(typ: string | undefined, payload: JsonObject) {
  const { events } = payload;
  if (typ === "dpop+jwt") return "proof";
  const isLogout = typeof events === "object" && events !== null && logoutEvent in events;
  if (typ === "logout+jwt" || isLogout) return "logout-token";
  return idTokenClaims.some((name) => payload[name] !== undefined) ? "id-token" : undefined;
}

const typeOf = ({ typ }: JwsHeader) =>
  typ === "at+jwt" ? typ : typ?.toLowerCase().replace(/^application\//, "");

function isAccessToken(format: NamedFormat, header: JwsHeader, payload: JsonObject): boolean {
  const typ = typeOf(header);
  if (typ === "at+jwt") return true;
  if (format.untyped !== true || (typ !== undefined && typ !== "jwt")) return false;
  // An ID token of a refresh need have no nonce, and never says what it allows, or to which client, in these words.
  const allows =
    payload["client_id"] !== undefined || findAt(format.scope ?? "/scope", payload) !== undefined;
  return allows && otherKind(typ, payload) === undefined;
}

function judgeKind(format: NamedFormat, header: JwsHeader, payload: JsonObject): Step {
  return {
    code: "guard.kind-refused",
    holds: isAccessToken(format, header, payload),
    detail: () => {
      const typ = typeOf(header);
      const other = typ === "at+jwt" ? undefined : otherKind(typ, payload);
      return {
        received: `${typ === undefined ? "no `typ`" : `\`typ\` ${quoted(header.typ)}`}${other === "id-token" ? `, with ${idTokenClaims.filter((name) => payload[name] !== undefined).join(" and ")}` : ""}`,
        expected:
          format.untyped === true
            ? "an access token: `typ` at+jwt, or none and a scope or client_id"
            : "`typ` at+jwt",
        because:
          other ??
          (typ === undefined || typ === "jwt"
            ? format.untyped === true
              ? "id-token"
              : "untyped"
            : undefined),
      };
    },
  };
}

/** Each format has its own spelling of the issuer: that of one does not go with another. */
const isSpelled = (settings: ResolvedIssuer, format: NamedFormat, { iss }: JsonObject) =>
  iss === undefined || isOf(settings, format, iss);

const hasFormat = (settings: ResolvedIssuer, format: NamedFormat, payload: JsonObject) =>
  format.refused !== true && isSpelled(settings, format, payload) && hasClaims(format, payload);

function judgeFormat(settings: ResolvedIssuer, format: NamedFormat, payload: JsonObject): Step {
  const { iss } = payload;
  return {
    code: "guard.format-refused",
    holds: hasFormat(settings, format, payload),
    detail: () => {
      const taken = formatsOf(settings).filter(({ refused }) => refused !== true);
      const claims = isSpelled(settings, format, payload)
        ? describeClaims(format, payload)
        : `iss ${quoted(iss)} with no format that spells it so`;
      return {
        received: format.refused === true ? `the format ${quoted(format.name ?? "")}` : claims,
        expected: taken.map(describeFormat).join("; or "),
      };
    },
  };
}

function describeFormat({ name, claims = {} }: NamedFormat): string {
  const all = Object.entries(claims).map(([claim, value]) => `${claim} ${JSON.stringify(value)}`);
  const what = all.length === 0 ? "" : ` with ${all.join(" and ")}`;
  return `${name === undefined ? "a token" : `the format ${quoted(name)}`}${what}`;
}

function describeClaims({ claims = {} }: NamedFormat, payload: JsonObject): string {
  return Object.keys(claims)
    .map((name) => `${name} ${payload[name] === undefined ? "absent" : quoted(payload[name], 40)}`)
    .join(" and ");
}

function judgeAudience(settings: ResolvedIssuer, format: NamedFormat, payload: JsonObject): Step {
  const { aud } = payload;
  return {
    code: "guard.audience-mismatch",
    holds: isForUs(format, payload),
    detail: () => {
      const names = typeof aud === "string" ? [aud] : listOf(aud);
      const expected = format.audience.map((name) => quoted(name)).join(" or ");
      if (names.length === 0) return { received: noText("aud", aud), expected, because: "absent" };
      const received = quotedList(names);
      const other = names.map((name) => nameOf([settings], name)).find((each) => each !== undefined);
      if (other !== undefined)
        return { received: `${received ?? ""}, which is ${other}`, expected, because: "other-api" };
      const bare = (name: string) => name.replace(/\/+$/, "");
      const isNear = names.some((name) => format.audience.some((own) => bare(own) === bare(name)));
      return { received: received ?? "", expected, ...(isNear && { because: "slash" }) };
    },
  };
}

const isAbsentOr = (holds: (value: unknown) => boolean) => (value: unknown) =>
  value === undefined || holds(value);
const isObject = (value: unknown) => typeof value === "object" && value !== null && !Array.isArray(value);
/** What need not be there, but has to be of its type where it is. */
const anyToken: ClaimRules = [
  ["exp", isAbsentOr(isInstant)],
  ["sub", isAbsentOr(isText)],
  ["client_id", isAbsentOr(isText)],
  ["iat", isAbsentOr(isInstant)],
  ["jti", isAbsentOr(isText)],
  ["nbf", isAbsentOr(isInstant)],
  ["auth_time", isAbsentOr(isInstant)],
  ["acr", isAbsentOr(isText)],
  ["cnf", isAbsentOr(isObject)],
  ["act", isAbsentOr(isObject)],
];
const untypedToken: ClaimRules = [["exp", isInstant], ...anyToken.slice(1)];
/** RFC 9068 section 2.2. */
const typedToken: ClaimRules = [
  ["exp", isInstant],
  ["sub", isText],
  ["client_id", isText],
  ["iat", isInstant],
  ["jti", isText],
  ...anyToken.slice(5),
];

const rulesOf = ({ untyped }: NamedFormat) => (untyped === true ? untypedToken : typedToken);

const isSound = (rules: ClaimRules, payload: JsonObject) =>
  rules.every(([name, holds]) => holds(payload[name]));

function judgeClaims(rules: ClaimRules, payload: JsonObject): Step {
  return {
    code: "guard.claim-missing",
    holds: isSound(rules, payload),
    detail: () => ({
      received: `the claims ${quotedList(Object.keys(payload)) ?? "(none)"}`,
      ...oddClaims(rules, payload),
    }),
  };
}

/** When a token begins to count, by what it says; from the beginning of time where it says nothing. */
function startOf({ iat, nbf }: JsonObject): number {
  return Math.max(isInstant(iat) ? iat : -Infinity, isInstant(nbf) ? nbf : -Infinity);
}

const isOver = ({ exp }: JsonObject, now: number) => typeof exp === "number" && !(now < exp);
const isBegun = (payload: JsonObject, now: number) => startOf(payload) <= now + clockToleranceSeconds;

/**
 * From when to when a token counts. RFC 9068 section 4 leaves room for a little leeway at the end; the strict reading is
 * none, for whoever calls can renew. At the beginning it is a minute: a token that has just been made has to count.
 */
export function* judgeTimes(payload: JsonObject, { now, clockAhead = 0 }: Now): Generator<Step> {
  const { exp, iat } = payload;
  const differs = Math.abs(clockAhead) > clockToleranceSeconds;
  const clock = () => ({
    because: "clock",
    here: `Set this machine's clock: by the Date of the issuer's last answer it is ${Math.abs(clockAhead)} s ${clockAhead < 0 ? "ahead" : "behind"}.`,
  });
  if (typeof exp === "number") {
    yield {
      code: "guard.expired",
      holds: !isOver(payload, now),
      detail: () => ({
        received: `exp ${exp}, ${Math.round(now - exp)} s ago${typeof iat === "number" ? `, of a token made for ${Math.round(exp - iat)} s` : ""}`,
        expected: `exp after ${Math.floor(now)}`,
        ...(typeof iat === "number" && exp < iat && { because: "lifetime" }),
        ...(differs && now + clockAhead < exp && clock()),
      }),
    };
  }
  const startsAt = startOf(payload);
  yield {
    code: "guard.not-yet-valid",
    holds: isBegun(payload, now),
    detail: () => ({
      received: `valid from ${startsAt}, ${Math.round(startsAt - now)} s from now`,
      expected: `at most ${clockToleranceSeconds} s from now, ${Math.floor(now)}`,
      ...(differs && startsAt <= now + clockAhead + clockToleranceSeconds && clock()),
    }),
  };
}

/** Whether all that judgeToken asks for holds: nearly always, and then there is nothing to tell. */
export function holdsPlainly(
  settings: ResolvedIssuer,
  format: NamedFormat,
  { header, payload }: { readonly header: JwsHeader; readonly payload: JsonObject },
  { now }: Now,
): boolean {
  return (
    hasFormat(settings, format, payload) &&
    isAccessToken(format, header, payload) &&
    isForUs(format, payload) &&
    isSound(rulesOf(format), payload) &&
    !isOver(payload, now) &&
    isBegun(payload, now)
  );
}

/** Holds a signed token of this issuer to RFC 9068 sections 2.2 and 4, but for signature and binding. */
export function* judgeToken(
  settings: ResolvedIssuer,
  format: NamedFormat,
  { header, payload }: { readonly header: JwsHeader; readonly payload: JsonObject },
  now: Now,
): Generator<Step> {
  yield judgeFormat(settings, format, payload);
  yield judgeKind(format, header, payload);
  yield judgeAudience(settings, format, payload);
  yield judgeClaims(rulesOf(format), payload);
  yield* judgeTimes(payload, now);
}

/**
 * RFC 7662 section 2.2: `token_type` is how an access token is used (RFC 6749 section 5.1). Another type is no access token; and DPoP
 * without a key is bound to nothing (RFC 9449 section 6.2). Some issuers repeat the hint that they were asked with.
 */
function judgeTokenType({ token_type: type, cnf }: JsonObject): Step {
  const name = typeof type === "string" ? type.toLowerCase() : type;
  const isBound = typeof cnf === "object" && cnf !== null && "jkt" in cnf;
  const isUnbound = name === "dpop" && !isBound;
  return {
    code: "guard.kind-refused",
    holds: !isUnbound && [undefined, "bearer", "dpop", "access_token"].includes(name as string | undefined),
    detail: () => ({
      received: `token_type ${quoted(type, 40)}${isUnbound ? " without `cnf.jkt`" : ""}`,
      expected: "token_type Bearer, or DPoP with `cnf.jkt`, or none",
      because: "other-type",
    }),
  };
}

/** Holds what the issuer says of an opaque token to RFC 7662 section 2.2. */
export function* judgeIntrospection(
  settings: ResolvedIssuer,
  format: NamedFormat,
  payload: JsonObject,
  now: Now,
): Generator<Step> {
  const { iss, aud } = payload;
  yield {
    code: "guard.issuer-unknown",
    // 2.2 leaves `iss` out at will. Of several tenants it does not say whose the token is: the strict reading.
    holds: iss === undefined ? settings.tenants === undefined : isOf(settings, format, iss),
    detail: () => ({
      received: iss === undefined ? noText("iss", iss) : quoted(iss),
      expected: quoted(format.issuer),
      ...(iss === undefined && { because: "absent" as const }),
    }),
  };
  yield judgeTokenType(payload);
  yield judgeFormat(settings, format, payload);
  // 2.2 leaves `aud` out at will, and 4 has each API judge by it: strictly, it is there unless the settings say otherwise.
  if (aud !== undefined || settings.introspection?.withoutAudience !== true)
    yield judgeAudience(settings, format, payload);
  yield judgeClaims(anyToken, payload);
  yield* judgeTimes(payload, now);
}

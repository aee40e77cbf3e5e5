import type { Person } from "./people.js";
import { requireKnownFault, requireKnownNames } from "./known-names.js";
import { randomText } from "./random-text.js";
import { issuerOf, type QuaysideState } from "./quayside/state.js";

type Claims = Readonly<Record<string, unknown>>;

/** An access token as a test wants it; what is left out is as in a sign-in of the first person. */
export interface TokenWish {
  /** Separated by spaces. Default: `tides.read`. */
  readonly scope?: string;
  /** Which API it is for. Default: Tidebook. */
  readonly audience?: string | readonly string[];
  /** ID of the person it is about, or `null` for one that a client has for itself. Default: the first. */
  readonly person?: string | null;
  readonly clientId?: string;
  /** How long it is good, in seconds. */
  readonly lifetimeSeconds?: number;
  /** Claims beside, or in place of, the usual ones; an undefined one is left out. */
  readonly claims?: Claims;
  /** Bound to the key of `proof`, so that it takes one (RFC 9449). */
  readonly bound?: boolean;
  /** Opaque, for an API that asks by introspection. */
  readonly opaque?: boolean;
  /** What is wrong with it. */
  readonly fault?: TokenFaultName;
}

/** What can be wrong with an access token, and what a sound API makes of it. */
export interface TokenFault {
  readonly name: string;
  readonly about: string;
  /** The problem that the API's developer is told. */
  readonly ending: string;
  /** Which of its causes, where it has several. */
  readonly because?: string;
}

export const tokenFaults = [
  { name: "other-issuer", about: "It is of an issuer that nobody trusts.", ending: "guard.issuer-unknown" },
  {
    name: "other-environment",
    about: "It is of the issuer of another environment.",
    ending: "guard.issuer-unknown",
  },
  {
    name: "issuer-with-slash",
    about: "Its issuer ends in a slash.",
    ending: "guard.issuer-unknown",
    because: "slash",
  },
  { name: "other-audience", about: "It is for another API.", ending: "guard.audience-mismatch" },
  { name: "no-audience", about: "It is for nobody.", ending: "guard.audience-mismatch", because: "absent" },
  { name: "id-token", about: "It is the ID token.", ending: "guard.kind-refused", because: "id-token" },
  {
    name: "logout-token",
    about: "It is a notice of sign-out.",
    ending: "guard.kind-refused",
    because: "logout-token",
  },
  {
    name: "untyped",
    about: "It does not say what kind of token it is.",
    ending: "guard.kind-refused",
    because: "untyped",
  },
  { name: "expired", about: "It has expired.", ending: "guard.expired" },
  { name: "from-the-future", about: "It begins in an hour.", ending: "guard.not-yet-valid" },
  { name: "no-subject", about: "It does not say whose it is.", ending: "guard.claim-missing" },
  { name: "expiry-as-text", about: "Its end is text in place of a number.", ending: "guard.claim-missing" },
  {
    name: "cut",
    about: "Its last characters are missing.",
    ending: "guard.signature-mismatch",
    because: "cut",
  },
  { name: "cut-in-half", about: "Its second half is missing.", ending: "guard.token-unreadable" },
  { name: "altered", about: "Somebody gave it another subject.", ending: "guard.signature-mismatch" },
  { name: "of-a-stranger", about: "Somebody else has signed it.", ending: "guard.signature-mismatch" },
  { name: "key-unpublished", about: "Its key is published nowhere.", ending: "guard.key-unknown" },
  { name: "unsigned", about: "It is signed by nobody (alg none).", ending: "guard.algorithm-refused" },
  {
    name: "opaque",
    about: "Only the issuer can read it.",
    ending: "guard.token-unreadable",
    because: "opaque",
  },
  {
    name: "bound-to-a-key",
    about: "It is bound to a key, and comes without a proof.",
    ending: "guard.proof-missing",
    because: "bearer",
  },
  {
    name: "bound-to-a-certificate",
    about: "It is bound to a certificate, and comes without one.",
    ending: "guard.certificate-missing",
  },
  { name: "other-scope", about: "It does not allow the call.", ending: "guard.scope-missing" },
] as const satisfies readonly TokenFault[];

export type TokenFaultName = (typeof tokenFaults)[number]["name"];

const changes: Partial<Record<TokenFaultName, (claims: Claims, now: number) => Claims>> = {
  "other-issuer": (claims) => ({ ...claims, iss: "https://id.elsewhere.example" }),
  "other-environment": (claims) => ({ ...claims, iss: "https://id.quayside.example" }),
  "issuer-with-slash": (claims) => ({ ...claims, iss: `${String(claims["iss"])}/` }),
  "other-audience": (claims) => ({ ...claims, aud: "https://gauges.example" }),
  "no-audience": (claims) => ({ ...claims, aud: undefined }),
  "id-token": ({ client_id, scope: _, jti: __, ...claims }) => ({
    ...claims,
    aud: client_id,
    nonce: randomText(),
  }),
  "logout-token": ({ scope: _, ...claims }) => ({
    ...claims,
    events: { "http://schemas.openid.net/event/backchannel-logout": {} },
  }),
  expired: (claims, now) => ({ ...claims, iat: now - 3900, exp: now - 3600 }),
  "from-the-future": (claims, now) => ({ ...claims, iat: now + 3600, exp: now + 3900 }),
  "no-subject": (claims) => ({ ...claims, sub: undefined }),
  "expiry-as-text": (claims) => ({ ...claims, exp: String(claims["exp"]) }),
  "bound-to-a-key": (claims) => ({ ...claims, cnf: { jkt: "0ZcOCORZNYy-DWpqq30jZyJGHTN0d2HglBV3uiguA4I" } }),
  "bound-to-a-certificate": (claims) => ({
    ...claims,
    cnf: { "x5t#S256": "A4DtL2JmUMhAsvJj5tKyn64SqzmuXbMrJa0n761y5v0" },
  }),
  "other-scope": (claims) => ({ ...claims, scope: "boats.paint" }),
};

const wishNames: Readonly<Record<keyof TokenWish, true>> = {
  scope: true,
  audience: true,
  person: true,
  clientId: true,
  lifetimeSeconds: true,
  claims: true,
  bound: true,
  opaque: true,
  fault: true,
};

const encode = (value: unknown) => Buffer.from(JSON.stringify(value)).toString("base64url");

/** Makes an access token of the provider's, as wished for. */
export async function makeToken(state: QuaysideState, wish: TokenWish = {}): Promise<string> {
  requireKnownNames("A token", wish, wishNames);
  requireKnownFault("A token", wish.fault, tokenFaults);
  if (wish.scope !== undefined && typeof wish.scope !== "string")
    throw new RangeError("A token takes its scope as one text, with spaces between.");
  const {
    person: id,
    scope = "tides.read",
    fault,
    lifetimeSeconds = state.lifetimes.accessTokenSeconds,
  } = wish;
  const now = Math.floor(state.now());
  const clientId = wish.clientId ?? [...state.clients.keys()][0] ?? "ferrywell";
  const person = id === null ? undefined : findPerson(state, id);
  const usual = {
    iss: issuerOf(state, person),
    sub: person?.subject ?? clientId,
    aud: wish.audience ?? state.audience,
    client_id: clientId,
    scope,
    iat: now,
    exp: now + lifetimeSeconds,
    jti: randomText(),
    ...(person && { roles: person.roles, auth_time: now }),
    ...(wish.bound === true && { cnf: { jkt: state.prover.thumbprint } }),
    ...wish.claims,
  };
  const claims = (fault && changes[fault]?.(usual, now)) ?? usual;
  if (wish.opaque === true || fault === "opaque") {
    const token = randomText();
    state.opaqueTokens.set(token, claims);
    return token;
  }
  if (fault === "of-a-stranger") return state.keys.signWithStranger(claims);
  if (fault === "key-unpublished") return state.keys.signWithStranger(claims, "a-key-nobody-published");
  if (fault === "unsigned") return `${encode({ alg: "none", typ: "at+jwt" })}.${encode(claims)}.`;
  const typ =
    fault === "id-token" || fault === "untyped" ? "JWT" : fault === "logout-token" ? "logout+jwt" : "at+jwt";
  const token = await state.keys.sign(claims, typ);
  const [head = "", , signature = ""] = token.split(".");
  if (fault === "altered") return `${head}.${encode({ ...claims, sub: "qs-10009" })}.${signature}`;
  // A multiple of four, so that what is left is still base64url to the letter.
  if (fault === "cut")
    return token.slice(0, token.length - 4 * Math.ceil(signature.length / 16) - (signature.length % 4));
  return fault === "cut-in-half" ? token.slice(0, Math.floor(token.length / 2)) : token;
}

function findPerson(state: QuaysideState, id = state.people[0]?.id): Person {
  const found = state.people.find((each) => each.id === id);
  if (found) return found;
  throw new RangeError(
    `Nobody is called ${JSON.stringify(id)}. There are: ${state.people.map((each) => each.id).join(", ")}.`,
  );
}

import type { Grant } from "../grant/index.js";
import type { Identity } from "../identity/index.js";
import { encodeBase64url } from "../jose/index.js";
import { isInstant, limits, type Eventually, type Platform } from "../platform/index.js";
import type { Tools } from "../trace/index.js";
import { fail } from "../problem/index.js";
import { seal, type KeyRing } from "./key-ring.js";
import type {
  ConnectionRecord,
  FoundSession,
  LinkOutcome,
  PersonRecord,
  SessionRecord,
  SignInRecords,
  Store,
} from "./store.js";

/** What sessions live on. */
export interface Keeping {
  readonly tools: Tools;
  readonly store: Store;
  readonly ring: KeyRing;
  /** Where the app is and answers: the sessions of another one on the same store are none of its. */
  readonly app: string;
  /** How long sessions of a kind last; of the common kind where none is named, or one that is no more. */
  readonly limitsOf: (kind?: string) => SessionLimits;
}

export interface SessionLimits {
  readonly lifetimeSeconds: number;
  /** A session that is not used for so many seconds is over. Default: it lasts to its end. */
  readonly idleSeconds?: number | undefined;
}

export interface OpenedSession {
  /** The cookie's value: 256 random bits, kept nowhere but in the browser. */
  readonly value: string;
  readonly person: PersonRecord;
  /** What the session before it held, and nobody needs any more. */
  readonly held: readonly ConnectionRecord[];
}

/** What a sign-in brought. */
export interface Granted {
  readonly identity: Identity;
  readonly grant: Grant;
  readonly kept?: Readonly<Record<string, string>>;
  /** What was asked for and not granted, separated by spaces; empty or absent for nothing. */
  readonly notGranted?: string;
}

/**
 * Opens a session for an identity: finds or makes the person, and keeps the grant, sealed, as a connection.
 *
 * @param newPersonId what the person is called if this is their first visit. Default: a random name
 * @param about `previous`: the cookie's value of the session before it in the same browser, which ends; `value`: what this one is
 *   found by, where that is not to be made up
 */
export async function beginSession(
  keeping: Keeping,
  provider: string,
  granted: Granted,
  newPersonId?: string,
  about: Pick<SessionRecord, "claims" | "kind" | "device"> & {
    readonly previous?: string;
    readonly value?: string;
  } = {},
): Promise<OpenedSession> {
  const { tools, store } = keeping;
  const { claims: kept, kind, device, previous } = about;
  const { issuer, subject, profile, claims } = granted.identity;
  const { sid, auth_time: authenticatedAt, acr } = claims;
  const { name, email, picture } = profile;
  const { value = randomId(tools.platform, 32) } = about;
  const createdAt = Math.floor(tools.platform.now());
  const id = await sessionIdOf(keeping, value);
  // What is sealed is bound to its person, so who that is has to be known before; should somebody else be first with this
  // identity, or the person be removed just now, it is looked up once more.
  for (let tries = 0; tries < mostTries; tries += 1) {
    const known = await store.findIdentity(issuer, subject);
    const personId =
      known?.personId ??
      newPersonId ??
      (await store.namePerson?.({ issuer, subject })) ??
      randomId(tools.platform, 16);
    const written = await store.saveSignIn({
      personId,
      profile: {
        ...(name !== undefined && { name }),
        ...(email !== undefined && { email }),
        ...(picture !== undefined && { picture }),
      },
      identity: { issuer, subject, provider },
      session: {
        id,
        provider,
        issuer,
        subject,
        ...(typeof sid === "string" && { providerSessionId: sid }),
        ...(isInstant(authenticatedAt) && { authenticatedAt: Math.floor(authenticatedAt) }),
        ...(typeof acr === "string" && { authenticationClass: acr }),
        ...(kept !== undefined && { claims: kept }),
        ...(kind !== undefined && { kind }),
        ...(device !== undefined && { device: device.slice(0, limits.device) }),
        createdAt,
        expiresAt: createdAt + keeping.limitsOf(kind).lifetimeSeconds,
      },
      ...(await newConnection(keeping, id, personId, provider, granted)),
      ...(previous !== undefined && { previousSessionId: await sessionIdOf(keeping, previous) }),
    });
    if (written) return { value, ...written };
  }
  return fail("store.unavailable", { received: "an identity whose person changed with every try" });
}

const mostTries = 5;

/**
 * Gives the person of a session the identity that a further sign-in has proved, and the session the connection that
 * came with it.
 *
 * @param session of the person who is to get it
 */
export async function linkIdentity(
  keeping: Keeping,
  { id: sessionId, personId }: Pick<SessionRecord, "id" | "personId">,
  provider: string,
  granted: Granted,
): Promise<LinkOutcome> {
  const { issuer, subject } = granted.identity;
  return keeping.store.linkIdentity({
    sessionId,
    identity: { issuer, subject, provider },
    at: Math.floor(keeping.tools.platform.now()),
    ...(await newConnection(keeping, sessionId, personId, provider, granted)),
  });
}

/** What a session keeps to call APIs with; an answer through the browser may bring an ID token and nothing else. */
async function newConnection(
  keeping: Keeping,
  sessionId: string,
  personId: string,
  provider: string,
  { identity, grant, kept = {}, notGranted = "" }: Granted,
): Promise<Pick<SignInRecords, "connection">> {
  if (grant.accessToken === "") return {};
  const id = randomId(keeping.tools.platform, 16);
  const connection = {
    id,
    sessionId,
    provider,
    subject: identity.subject,
    status: "active",
    refreshCount: 0,
    version: 1,
    ...(Object.keys(kept).length > 0 && { kept }),
    ...(notGranted !== "" && { notGranted }),
    ...(await sealGrant(keeping, { id, personId, provider }, grant)),
  } as const;
  return { connection };
}

/**
 * The session a cookie's value stands for, unless it is over. One read of the store; with an idle limit also a write, ten
 * times within the limit and once a minute at the most, for which nobody waits.
 *
 * @param isUse false where a page only looks whether it is still there: that keeps no session from ending
 */
export function readSession(
  keeping: Keeping,
  value: string,
  isUse = true,
): Promise<FoundSession | undefined> {
  const { store } = keeping;
  const current = (found: FoundSession | undefined) => found && ifCurrent(keeping, found, isUse);
  // At once where the engine is: this is done with every request.
  const hashing = sessionIdOf(keeping, value);
  return typeof hashing === "string"
    ? store.findSession(hashing).then(current)
    : hashing.then((id) => store.findSession(id)).then(current);
}

/** Nothing where it is over; where it is in use, that is noted now and then. */
function ifCurrent(
  { store, tools, limitsOf }: Keeping,
  found: FoundSession,
  isUse: boolean,
): FoundSession | undefined {
  const now = tools.platform.now();
  if (found.session.expiresAt <= now) return undefined;
  const { idleSeconds } = limitsOf(found.session.kind);
  if (idleSeconds === undefined) return found;
  const { id, createdAt, lastSeenAt = createdAt } = found.session;
  if (now - lastSeenAt > idleSeconds) return undefined;
  if (isUse && now - lastSeenAt >= Math.min(60, idleSeconds / 10))
    void store
      .changeSession(id, { lastSeenAt: Math.floor(now) })
      .catch((error: unknown) => tools.report?.(error, "noting that a session is in use"));
  return found;
}

type GrantColumns = Pick<
  ConnectionRecord,
  | "scope"
  | "obtainedAt"
  | "expiresAt"
  | "sealedAccessToken"
  | "sealedRefreshToken"
  | "sealedIdToken"
  | "sealedDpopKey"
  | "sealedTokenSecret"
  | "sealedContext"
>;

/** A grant as the columns of a connection, each token sealed for its own place. */
export async function sealGrant(
  keeping: Pick<Keeping, "tools" | "ring">,
  owner: TokenOwner,
  grant: Grant,
): Promise<GrantColumns> {
  const { tools, ring } = keeping;
  const sealToken = (kind: TokenKind, token: string) => seal(tools, ring, tokenPlace(owner, kind), token);
  const { accessToken, refreshToken, idToken, dpopKey, tokenSecret, expiresAt, context } = grant;
  return {
    scope: grant.scope,
    obtainedAt: grant.obtainedAt,
    ...(expiresAt !== undefined && { expiresAt }),
    sealedAccessToken: await sealToken("access-token", accessToken),
    ...(refreshToken !== undefined && { sealedRefreshToken: await sealToken("refresh-token", refreshToken) }),
    ...(idToken !== undefined && { sealedIdToken: await sealToken("id-token", idToken) }),
    ...(dpopKey && { sealedDpopKey: await sealToken("dpop-key", JSON.stringify(dpopKey)) }),
    ...(tokenSecret !== undefined && { sealedTokenSecret: await sealToken("token-secret", tokenSecret) }),
    ...(context && { sealedContext: await sealToken("context", JSON.stringify(context)) }),
  };
}

export type TokenKind =
  "access-token" | "refresh-token" | "id-token" | "dpop-key" | "token-secret" | "context" | "replaced";

/** The row a token stands in, and whose it is: a sealed value opens in no other row, and for nobody else. */
export type TokenOwner = Pick<ConnectionRecord, "id" | "personId" | "provider">;

export function tokenPlace(owner: TokenOwner, kind: TokenKind): string {
  return placeOf(owner, kind);
}

/** Where the access token of an API of its own is kept. */
export function apiTokenPlace(owner: TokenOwner, api: string): string {
  return placeOf(owner, "api-token", api);
}

/** As a list, so that no part can pass for two. */
function placeOf({ id, personId, provider }: TokenOwner, ...parts: readonly string[]): string {
  return JSON.stringify(["connection", id, provider, personId, ...parts]);
}

/** By what the session is kept that a cookie's value opens; at once where the engine is. */
export function sessionIdOf(
  { tools, app }: Pick<Keeping, "tools" | "app">,
  value: string,
): Eventually<string> {
  return tools.platform.crypto.digestText("SHA-256", `${app} ${value}`);
}

/** How an opaque value is kept: as its SHA-256. It is random and long, so it needs neither salt nor stretching. */
export async function hashId(platform: Platform, value: string): Promise<string> {
  return await platform.crypto.digestText("SHA-256", value);
}

export function randomId(platform: Platform, bytes: number): string {
  return encodeBase64url(platform.randomBytes(bytes));
}

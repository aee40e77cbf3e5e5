/**
 * What a store keeps. Instants are seconds since the epoch. Every record is plain data; every value that could sign
 * somebody in is either a hash (`id` of attempts and sessions, `browserHash`) or sealed (`sealed…`).
 */
export interface PersonRecord {
  readonly id: string;
  readonly name?: string;
  readonly email?: string;
  readonly picture?: string;
  readonly createdAt: number;
}

/** Names a person for good: issuer and subject, never an e-mail address. */
export interface IdentityRecord {
  readonly issuer: string;
  readonly subject: string;
  readonly provider: string;
  readonly personId: string;
  readonly createdAt: number;
  readonly lastSignInAt: number;
}

export interface SessionRecord {
  /** SHA-256 of the cookie's value, base64url. */
  readonly id: string;
  readonly personId: string;
  readonly provider: string;
  /** Issuer and subject signed in with. */
  readonly issuer: string;
  readonly subject: string;
  /** The provider's own session, `sid` in the ID token, where it tells. */
  readonly providerSessionId?: string;
  /** When and how the person proved who they are, where the provider tells: `auth_time` and `acr`. */
  readonly authenticatedAt?: number;
  readonly authenticationClass?: string;
  /** What the settings keep of the provider's claims; absent where that is nothing. */
  readonly claims?: Readonly<Record<string, unknown>>;
  /** Which of the settings' kinds of session it is; absent for the common kind. */
  readonly kind?: string;
  /** What the browser says that it is (`User-Agent`), cut. */
  readonly device?: string;
  /** Written from time to time where sessions have an idle limit; absent until then. */
  readonly lastSeenAt?: number;
  readonly createdAt: number;
  readonly expiresAt: number;
}

/** What changes of a session while it lasts. */
export type SessionChanges = Partial<Pick<SessionRecord, "lastSeenAt" | "claims">>;

/** An access token beside the one that the sign-in brought: for one API, by the same refresh token. */
export interface ApiTokenRecord {
  /** The parameters it was asked for with: another request is another token. */
  readonly asked: string;
  readonly scope: string;
  readonly obtainedAt: number;
  readonly expiresAt?: number;
  readonly sealedAccessToken: string;
}

export interface ConnectionRecord {
  readonly id: string;
  /** The session that holds it; absent where it is kept for its person, and then all that `KeptConnection` names is there. */
  readonly sessionId?: string;
  readonly personId: string;
  readonly provider: string;
  readonly subject: string;
  readonly scope: string;
  /** What was asked for when it was made and the provider did not grant, separated by spaces; absent where it granted all. */
  readonly notGranted?: string;
  /** `ended` once the provider has refused the refresh token. */
  readonly status: "active" | "ended";
  readonly obtainedAt: number;
  /** Of the access token. */
  readonly expiresAt?: number;
  readonly refreshCount: number;
  readonly sealedAccessToken: string;
  readonly sealedRefreshToken?: string;
  readonly sealedIdToken?: string;
  /** The key that the access token is bound to. */
  readonly sealedDpopKey?: string;
  /** What calls are signed with, at a provider of OAuth 1.0a. */
  readonly sealedTokenSecret?: string;
  /** In which context a host has opened the app: it tells of people, and is sealed as tokens are. */
  readonly sealedContext?: string;
  /**
   * What was granted for the same account before and may be good still: taken back together with this one, for a provider may count all
   * of them as one.
   */
  readonly sealedReplaced?: string;
  /** Access tokens for APIs that take one of their own, by the API's name in the settings. */
  readonly apiTokens?: Readonly<Record<string, ApiTokenRecord>>;
  /** Callback parameters that deviations.keepCallbackParameters names. */
  readonly kept?: Readonly<Record<string, string>>;
  /** Grows by one with every write; a write names the version it is based on. */
  readonly version: number;
  /** Number of the lease under which its tokens were renewed last; of two renewals the one with the higher number holds. */
  readonly renewedUnder?: number;
}

/** Whether a connection is of no use any more: the provider honours it no longer, or its access token is over and nothing renews it. */
export function isOver(
  { status, sealedRefreshToken, expiresAt = Infinity }: ConnectionRecord,
  now: number,
): boolean {
  return status === "ended" || (sealedRefreshToken === undefined && expiresAt <= now);
}

/** A connection that belongs to a person: it outlives the sessions it was made and used in. */
export interface KeptConnection extends ConnectionRecord {
  readonly sessionId?: never;
  /** Which of the person's accounts at the provider it is for: an ID of the provider's. */
  readonly account: string;
  /** What the provider calls that account, for people to read. */
  readonly accountName?: string;
  /** When the provider itself named the account; absent where only the browser did. */
  readonly confirmedAt?: number;
  /** The environment of the settings that it was made in; empty where they have none. */
  readonly environment: string;
  readonly connectedAt: number;
  readonly lastUsedAt?: number;
}

/** Which kept connections are sought; a member left out does not matter. */
export type KeptQuery = Partial<Pick<KeptConnection, "personId" | "provider" | "environment" | "account">>;

export type PopUp = "pop-up" | `pop-up.${string}`;

export interface AttemptRecord {
  /** SHA-256 of the state, base64url. */
  readonly id: string;
  /** SHA-256 of the browser cookie, base64url. */
  readonly browserHash: string;
  readonly provider: string;
  /** Host and port at which the browser began. */
  readonly host: string;
  readonly returnTo: string;
  readonly sealedAttempt: string;
  /**
   * `pop-up` where the sign-in happens in a window of its own, which tells its opener how it ended; with a dot and the name
   * that the opener knows the window by.
   */
  readonly ending?: PopUp;
  /** Which kind of session is to come of it. */
  readonly sessionKind?: string;
  /** The session whose person is to get a further identity, in place of a sign-in. */
  readonly linkSessionId?: string;
  /** The person whose account is to be connected, in place of a sign-in. */
  readonly connectFor?: string;
  readonly beganAt: number;
  readonly expiresAt: number;
  readonly usedAt?: number;
}

/** All that one sign-in writes. */
export interface SignInRecords {
  /** Whose the identity is; made where there is nobody of that ID yet. */
  readonly personId: string;
  readonly profile: Pick<PersonRecord, "name" | "email" | "picture">;
  readonly identity: Omit<IdentityRecord, "personId" | "createdAt" | "lastSignInAt">;
  readonly session: Omit<SessionRecord, "personId">;
  /** Left out where the sign-in brought no access token. */
  readonly connection?: Omit<ConnectionRecord, "personId">;
  /**
   * The session that this one follows in the same browser, and which ends. Where it is the same person's, what it holds
   * at other providers goes over to this one.
   */
  readonly previousSessionId?: string;
}

/** What came of writing a sign-in. */
export interface SignedIn {
  readonly person: PersonRecord;
  /** What the session before it held, and nothing holds any more. */
  readonly held: readonly ConnectionRecord[];
}

/** All that linking a further identity to a signed-in person writes. */
export interface LinkRecords {
  readonly sessionId: string;
  readonly identity: SignInRecords["identity"];
  readonly at: number;
  /** Kept by the session, unless it already holds a connection of another account at this provider. */
  readonly connection?: Omit<ConnectionRecord, "personId">;
}

/** What came of linking an identity: `taken` where it is another's, `gone` where the session has ended. */
export type LinkOutcome =
  | {
      readonly kind: "linked";
      /** The connection of the same account that the new one replaces. */
      readonly held: readonly ConnectionRecord[];
    }
  | { readonly kind: "taken" | "gone" };

/** The right to write to a connection. `number` grows with every lease of a name that is given, and names this one. */
export interface Lease {
  readonly name: string;
  readonly number: number;
}

/** `taken over` where the one before let it run out; `held` where it is somebody else's. */
export type LeaseAnswer =
  { readonly kind: "taken" | "taken over"; readonly number: number } | { readonly kind: "held" };

/** What came of a sweep. */
export interface Swept {
  /** How many sessions and attempts are gone. */
  readonly count: number;
  /** What those sessions held. */
  readonly held: readonly ConnectionRecord[];
}

/** A session with its person. */
export interface FoundSession {
  readonly session: SessionRecord;
  readonly person: PersonRecord;
}

/** Which sessions are sought; a member left out does not matter. */
export interface SessionQuery {
  readonly provider?: string;
  readonly issuer?: string;
  readonly subject?: string;
  readonly providerSessionId?: string;
  readonly personId?: string;
}

/** As many records as a list has at a time. */
export const mostFound = 1000;

/** A part of a list: so many at the most, those that come after a record of the part before it. */
export interface ListPart {
  /** 1 to 1000. Default: 1000. */
  readonly most?: number | undefined;
  /** Of the last record of the part before: its ID, and its `createdAt` or `connectedAt`. It may be gone meanwhile. */
  readonly after?: { readonly id: string; readonly at: number } | undefined;
}

/** An attempt that is over is remembered for so long, by a mark, so that whoever comes back to it is told why not. */
export const attemptMemorySeconds = 86_400;

/** The mark that an attempt leaves: short, for whoever begins sign-ins by the million leaves as many. */
export function tombstoneOf(attemptId: string): string {
  return `attempt/${attemptId.slice(0, 22)}`;
}

/**
 * The port every store implements. Each method is atomic; none leaves half of its work behind. No call may take for ever:
 * one that is over (`storeBudget`) has no effect after that, as far as the store can see to it.
 * All may throw store.unavailable.
 */
export interface Store {
  /** What to call a person of whom nothing is known yet, where the store has to know again by itself. Default: at random. */
  readonly namePerson?: (identity: Pick<IdentityRecord, "issuer" | "subject">) => Promise<string>;

  /** Whether it forgets everything when its process ends. */
  readonly isForgetful?: true;

  /** The policy by which it drops what it keeps when its memory is full, such as Redis' `allkeys-lru`; absent where it drops nothing. */
  readonly evictsBy?: string;

  /** Adds an attempt. Of those open in the same browser, the oldest beyond `mostOpen` go. */
  addAttempt(record: AttemptRecord, mostOpen: number): Promise<void>;
  findAttempt(id: string): Promise<AttemptRecord | undefined>;
  /** Marks an attempt as used: true for exactly one caller, ever. */
  useAttempt(id: string, usedAt: number): Promise<boolean>;
  /**
   * Writes the person, identity, session and connection of a sign-in; undefined, and nothing is written, where the
   * identity is another person's than it says, or its person is gone: somebody was first, and it is worth another try.
   */
  saveSignIn(records: SignInRecords): Promise<SignedIn | undefined>;
  findIdentity(issuer: string, subject: string): Promise<IdentityRecord | undefined>;
  /** The identities of a person, the oldest first. */
  findIdentities(personId: string): Promise<readonly IdentityRecord[]>;
  /** Gives the session's person a further identity. */
  linkIdentity(records: LinkRecords): Promise<LinkOutcome>;
  /**
   * Removes an identity with its sessions and connections, which are returned; undefined, and nothing is removed, where
   * the person does not have it or would be left with none at `providers`.
   */
  unlinkIdentity(
    identity: Pick<IdentityRecord, "personId" | "issuer" | "subject">,
    providers: readonly string[],
  ): Promise<readonly ConnectionRecord[] | undefined>;
  findSession(id: string): Promise<FoundSession | undefined>;
  /**
   * Sessions, expired ones among them until they are swept, the newest first: at a provider, of a person, or all; a part of them
   * that is shorter than it might be is the last.
   */
  findSessions(query: SessionQuery, part?: ListPart): Promise<readonly FoundSession[]>;
  /** Notes when a session was in use, or what its provider says now; nothing happens where there is none. */
  changeSession(id: string, changes: SessionChanges): Promise<void>;
  /** Removes a session and what it holds; what it held is returned. */
  endSession(id: string): Promise<readonly ConnectionRecord[]>;
  /** Notes something that may happen once, such as the ID of a notice: true for exactly one caller until it expires. */
  useMark(id: string, expiresAt: number, now: number): Promise<boolean>;
  /** Whether it has happened, and the mark has not expired. */
  isMarked(id: string, now: number): Promise<boolean>;
  /**
   * Takes the right to do something for so many seconds, by a clock of the store's: nobody else gets it until then, or
   * until it is given back.
   *
   * @param room so many characters are kept free for what is to be written under the lease: a store without room for them
   *   refuses here, before anything is spent
   */
  takeLease(name: string, owner: string, seconds: number, room?: number): Promise<LeaseAnswer>;
  /** Gives a lease back, if it is this owner's still. */
  releaseLease(name: string, owner: string): Promise<void>;
  /**
   * Writes a connection that belongs to a person. Whatever they had of the same account, at the same provider and in the
   * same environment, is gone then, and returned: there is never a second one.
   */
  keepConnection(record: KeptConnection): Promise<readonly KeptConnection[]>;
  findKept(id: string): Promise<KeptConnection | undefined>;
  /** Kept connections, the newest first, in parts like those of sessions. */
  findAllKept(query: KeptQuery, part?: ListPart): Promise<readonly KeptConnection[]>;
  /** Notes that a kept connection was used; nothing happens where there is none. */
  touchKept(id: string, lastUsedAt: number): Promise<void>;
  /** Removes a kept connection, and returns it; undefined where there is none. */
  dropKept(id: string): Promise<KeptConnection | undefined>;
  /**
   * Removes a person with their identities, sessions and connections, kept ones among them; the connections are returned. A
   * person of whom there is nothing but kept connections is one, too.
   */
  removePerson(personId: string): Promise<readonly ConnectionRecord[]>;
  findConnection(sessionId: string, provider: string): Promise<ConnectionRecord | undefined>;
  /**
   * Writes `record` if the stored version is the one before it; false when somebody else was first. The connection stays
   * with the session that has it now, whichever the record names.
   *
   * @param lease false, too, unless it is the last that was given of its name and was not given back; that it has run out
   *   does not matter as long as nobody else has taken it
   */
  replaceConnection(record: ConnectionRecord, lease?: Lease): Promise<boolean>;
  /**
   * Removes sessions, attempts and marks that expired: at most so many of each, so that nobody waits for it. An attempt
   * leaves the mark `tombstoneOf`.
   */
  sweep(now: number, most: number): Promise<Swept>;
  close(): Promise<void>;
}

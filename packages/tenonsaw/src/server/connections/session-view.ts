import { wordsIn } from "../../platform/index.js";
import { requireSessionId } from "../sessions/person-id.js";
import { noteCall, requireFit } from "../../trace/index.js";
import { bearerToken } from "../../connection/index.js";
import { isWithin } from "../../provider/index.js";
import {
  isOver,
  type FoundSession,
  type IdentityRecord,
  type Launch,
  type PersonRecord,
} from "../../session/index.js";
import type { Context } from "../context/context.js";
import { release } from "../sessions/ending.js";
import { holderFor, listAccounts, type AccountView } from "./accounts.js";
import { launchOf } from "../sessions/launch-of.js";
import {
  callFor,
  callerOf,
  fetcherFor,
  requireApi,
  requireChoice,
  type AccountChoice,
  type CallInit,
} from "./call.js";
import { dropAccount } from "./drop.js";

/** A signed-in browser, as the app sees it. */
export interface Session<Providers extends string = string, Apis extends string = string> {
  readonly person: PersonRecord;
  /** Name of the provider signed in with. */
  readonly provider: Providers;
  /** What `sessionClaims` names, as the provider said it at sign-in, or with the last refresh since: roles, groups, tenant. */
  readonly claims: Readonly<Record<string, unknown>>;
  /** Which of the settings' kinds of session this is; absent for the common kind. */
  readonly kind?: string;
  /** Seconds since the epoch. */
  readonly signedInAt: number;
  /** When the person proved who they are, which may be long before; where the provider tells. */
  readonly authenticatedAt?: number;
  /** How they did: `acr` of the ID token. */
  readonly authenticationClass?: string;
  /** Whether that was within so many seconds; anything but a number, 0 or more, is `server.unfit-argument`. Where it was not: `signIn.ask(request, { provider, maxAge })`. */
  provedWithin(seconds: number): boolean;
  readonly expiresAt: number;
  /** The ways this person has to sign in, the oldest first. */
  identities(): Promise<readonly IdentityRecord[]>;
  /**
   * What the session holds at a provider; undefined when there is nothing, or nothing any more.
   *
   * @param provider Default: the one signed in with
   * @throws provider.unknown
   */
  connection(provider?: Providers): Promise<ConnectionView | undefined>;
  /**
   * Calls a declared API with the person's access token, refreshed first where needed.
   *
   * @param api name of the API in the settings
   * @param path a path at the API's origin
   * @param init as for `fetch`; `account` names one of the person's connected accounts, where there are several
   * @throws connection.api-unknown, connection.other-origin, connection.scope-insufficient, connection.none,
   *   connection.account-unclear, connection.other-environment, connection.ended, connection.busy, grant.*, platform.*
   */
  fetch(api: Apis, path: string, init?: CallInit): Promise<Response>;
  /**
   * A `fetch` of its own for a client that was made for one API and takes one: it calls that API, with the person's token, and
   * nothing else; the token itself is never to be seen.
   */
  fetchAt(api: Apis, account?: AccountChoice): typeof globalThis.fetch;
  /** What the person has connected beyond this session, the newest first. */
  accounts(): Promise<readonly AccountView[]>;
  /** Ends a connection of the person's, by its `id`, and takes its tokens back; false where there is none such. */
  disconnect(id: string): Promise<boolean>;
  /**
   * The access token for a declared API, fresh, for a client that makes its calls in another way. It is the person's:
   * keep it nowhere, and send it to that API only.
   *
   * @throws connection.token-bound, and as fetch
   */
  token(api: Apis, account?: AccountChoice): Promise<string>;
  /** The person's other sessions and this one, the newest first. */
  sessions(): Promise<readonly SessionSummary[]>;
  /** In which context a host has opened the app; undefined where this session has come of no launch. Reads the store once. */
  launch(): Promise<Launch | undefined>;
  /** Ends another session of the same person, and takes its tokens back; false where there is none such. */
  endSession(id: string): Promise<boolean>;
}

/** One signed-in browser among those of a person. */
export interface SessionSummary {
  /** To end it by; nobody can sign in with it. */
  readonly id: string;
  readonly provider: string;
  /** What the browser says that it is. */
  readonly device?: string;
  readonly signedInAt: number;
  /** Told where sessions have an idle limit. */
  readonly lastSeenAt?: number;
  readonly expiresAt: number;
  readonly isThis: boolean;
}

/** A connection without its tokens. */
export interface ConnectionView {
  readonly provider: string;
  /** `needs consent` once the provider honours it no more, or it is over: sign in with the provider again to repair it. */
  readonly status: "active" | "needs consent";
  /** What the access token allows. */
  readonly scope: readonly string[];
  readonly obtainedAt: number;
  /** Of the access token; absent when the provider does not tell. */
  readonly expiresAt?: number;
  readonly refreshCount: number;
  readonly isRenewable: boolean;
  /** Callback parameters that deviations.keepCallbackParameters names. The browser brought them. */
  readonly kept: Readonly<Record<string, string>>;
}

export function viewSession(context: Context, found: FoundSession): Session {
  return new SessionView(context, found);
}

/** A class, because one is made with every request: what it can do is there once. */
class SessionView implements Session {
  readonly person: PersonRecord;
  readonly provider: string;
  readonly signedInAt: number;
  readonly expiresAt: number;
  readonly claims: Readonly<Record<string, unknown>>;
  // Only declared: what a session does not have is not there at all.
  declare readonly kind?: string;
  declare readonly authenticatedAt?: number;
  declare readonly authenticationClass?: string;
  readonly #context: Context;
  readonly #id: string;
  readonly #found: FoundSession;

  constructor(context: Context, found: FoundSession) {
    const { session, person } = found;
    this.#found = found;
    const { kind, authenticatedAt, authenticationClass } = session;
    this.#context = context;
    this.#id = session.id;
    this.person = person;
    this.provider = session.provider;
    this.signedInAt = session.createdAt;
    this.expiresAt = session.expiresAt;
    this.claims = session.claims ?? {};
    if (kind !== undefined) this.kind = kind;
    if (authenticatedAt !== undefined) this.authenticatedAt = authenticatedAt;
    if (authenticationClass !== undefined) this.authenticationClass = authenticationClass;
  }

  provedWithin(seconds: number): boolean {
    const { authenticatedAt } = this;
    // Of NaN and the like nothing is within, for ever, and whoever is asked for a proof is asked again.
    requireFit(seconds, (given) => typeof given === "number" && given >= 0, "seconds, 0 or more");
    const now = this.#context.tools.platform.now();
    return authenticatedAt !== undefined && isWithin(seconds, now - authenticatedAt);
  }

  identities(): Promise<readonly IdentityRecord[]> {
    return this.#context.store.findIdentities(this.person.id);
  }

  async connection(provider = this.provider): Promise<ConnectionView | undefined> {
    // A name that there is not would have no connection for ever, and nobody would know why.
    if (provider !== this.provider) this.#context.providers.requireKnown(provider);
    const connection = await this.#context.store.findConnection(this.#id, provider);
    return (
      connection && {
        provider: connection.provider,
        status: isOver(connection, this.#context.tools.platform.now()) ? "needs consent" : "active",
        scope: wordsIn(connection.scope),
        obtainedAt: connection.obtainedAt,
        ...(connection.expiresAt !== undefined && { expiresAt: connection.expiresAt }),
        refreshCount: connection.refreshCount,
        isRenewable: connection.sealedRefreshToken !== undefined,
        kept: connection.kept ?? {},
      }
    );
  }

  launch(): Promise<Launch | undefined> {
    return launchOf(this.#context, this.#found);
  }

  fetch(api: string, path: string, init?: CallInit): Promise<Response> {
    return noteCall(callFor(this.#context, callerOf(this.#found), api, path, init));
  }

  fetchAt(api: string, account?: AccountChoice): typeof globalThis.fetch {
    return fetcherFor(account, (path, init) => this.fetch(api, path, init));
  }

  async token(api: string, choice?: AccountChoice): Promise<string> {
    requireChoice(choice);
    const caller = { ...callerOf(this.#found), account: choice?.account };
    const declared = requireApi(this.#context, api, caller.launchedAt);
    return bearerToken(this.#context, await holderFor(this.#context, caller, declared), declared);
  }

  accounts(): Promise<readonly AccountView[]> {
    return listAccounts(this.#context, this.person.id);
  }

  disconnect(id: string): Promise<boolean> {
    return dropAccount(this.#context, this.person.id, id);
  }

  async sessions(): Promise<readonly SessionSummary[]> {
    const { store, tools } = this.#context;
    const found = await store.findSessions({ personId: this.person.id });
    return found
      .filter(({ session }) => session.expiresAt > tools.platform.now())
      .map(({ session }) => ({
        id: session.id,
        provider: session.provider,
        ...(session.device !== undefined && { device: session.device }),
        ...(session.lastSeenAt !== undefined && { lastSeenAt: session.lastSeenAt }),
        signedInAt: session.createdAt,
        expiresAt: session.expiresAt,
        isThis: session.id === this.#id,
      }));
  }

  async endSession(id: string): Promise<boolean> {
    const found = await this.#context.store.findSession(requireSessionId(id));
    if (found?.person.id !== this.person.id) return false;
    await release(this.#context, await this.#context.store.endSession(id));
    return true;
  }
}

import { authorisedFetch, bearerToken, type Api } from "../../connection/index.js";
import { fail, quoted } from "../../problem/index.js";
import type { FoundSession, IdentityRecord, PersonRecord } from "../../session/index.js";
import type { Context } from "../context/context.js";
import { release } from "./ending.js";

/** A signed-in browser, as the app sees it. */
export interface Session<Providers extends string = string, Apis extends string = string> {
  readonly person: PersonRecord;
  /** Name of the provider signed in with. */
  readonly provider: Providers;
  /** What `sessionClaims` names, as the provider said it at sign-in: roles, groups, tenant. */
  readonly claims: Readonly<Record<string, unknown>>;
  /** Which of the settings' kinds of session this is; absent for the common kind. */
  readonly kind?: string;
  /** Seconds since the epoch. */
  readonly signedInAt: number;
  /** When the person proved who they are, which may be long before; where the provider tells. */
  readonly authenticatedAt?: number;
  /** How they did: `acr` of the ID token. */
  readonly authenticationClass?: string;
  /** Whether that was within so many seconds. Where it was not: `signIn.ask(request, { provider, maxAge })`. */
  provedWithin(seconds: number): boolean;
  readonly expiresAt: number;
  /** The ways this person has to sign in, the oldest first. */
  identities(): Promise<readonly IdentityRecord[]>;
  /**
   * What the session holds at a provider; undefined when there is nothing, or nothing any more.
   *
   * @param provider Default: the one signed in with
   */
  connection(provider?: Providers): Promise<ConnectionView | undefined>;
  /**
   * Calls a declared API with the person's access token, refreshed first where needed.
   *
   * @param api name of the API in the settings
   * @param path a path at the API's origin
   * @throws connection.api-unknown, connection.other-origin, connection.scope-insufficient, connection.none,
   *   connection.ended, connection.busy, grant.*, platform.*
   */
  fetch(api: Apis, path: string, init?: RequestInit): Promise<Response>;
  /**
   * The access token for a declared API, fresh, for a client that makes its calls in another way. It is the person's:
   * keep it nowhere, and send it to that API only.
   *
   * @throws connection.token-bound, and as fetch
   */
  token(api: Apis): Promise<string>;
  /** The person's other sessions and this one, the newest first. */
  sessions(): Promise<readonly SessionSummary[]>;
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
  /** `needs consent` once the provider honours it no more: sign in with the provider again to repair it. */
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

  constructor(context: Context, { session, person }: FoundSession) {
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
    return authenticatedAt !== undefined && this.#context.tools.platform.now() - authenticatedAt <= seconds;
  }

  identities(): Promise<readonly IdentityRecord[]> {
    return this.#context.store.findIdentities(this.person.id);
  }

  async connection(provider = this.provider): Promise<ConnectionView | undefined> {
    const connection = await this.#context.store.findConnection(this.#id, provider);
    return (
      connection && {
        provider: connection.provider,
        status: connection.status === "ended" ? "needs consent" : "active",
        scope: connection.scope.split(" ").filter((part) => part !== ""),
        obtainedAt: connection.obtainedAt,
        ...(connection.expiresAt !== undefined && { expiresAt: connection.expiresAt }),
        refreshCount: connection.refreshCount,
        isRenewable: connection.sealedRefreshToken !== undefined,
        kept: connection.kept ?? {},
      }
    );
  }

  async fetch(api: string, path: string, init?: RequestInit): Promise<Response> {
    const call = () => authorisedFetch(this.#context, this.#id, requireApi(this.#context, api), path, init);
    const { ways } = this.#context;
    return ways ? ways.run(`Call of ${api}: ${init?.method ?? "GET"} ${pathOf(path)}`, call) : call();
  }

  async token(api: string): Promise<string> {
    return bearerToken(this.#context, this.#id, requireApi(this.#context, api));
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
    const found = await this.#context.store.findSession(id);
    if (found?.person.id !== this.person.id) return false;
    await release(this.#context, await this.#context.store.endSession(id));
    return true;
  }
}

/** @throws connection.api-unknown */
export function requireApi({ settings: { apis } }: Context, name: string): Api {
  const declared = Object.hasOwn(apis, name) ? apis[name] : undefined;
  if (declared) return { name, ...declared };
  fail("connection.api-unknown", {
    received: quoted(name),
    expected: `one of the APIs in the settings: ${Object.keys(apis).join(", ") || "(none)"}`,
  });
}

/** A path without its query, which may hold what is nobody else's business. */
function pathOf(path: string): string {
  const [bare = ""] = path.split(/[?#]/, 1);
  return bare.slice(0, 200);
}

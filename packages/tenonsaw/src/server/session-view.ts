import { authorisedFetch, bearerToken, type Api } from "../connection/index.js";
import { fail, quoted } from "../problem/index.js";
import type { FoundSession, IdentityRecord, PersonRecord } from "../session/index.js";
import type { Context } from "./context.js";
import { leaveProvider } from "./sign-out-route.js";

/** A signed-in browser, as the app sees it. */
export interface Session {
  readonly person: PersonRecord;
  /** Name of the provider signed in with. */
  readonly provider: string;
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
  connection(provider?: string): Promise<ConnectionView | undefined>;
  /**
   * Calls a declared API with the person's access token, refreshed first where needed.
   *
   * @param api name of the API in the settings
   * @param path a path at the API's origin
   * @throws connection.api-unknown, connection.other-origin, connection.scope-insufficient, connection.none,
   *   connection.ended, connection.busy, grant.*, platform.*
   */
  fetch(api: string, path: string, init?: RequestInit): Promise<Response>;
  /**
   * The access token for a declared API, fresh, for a client that makes its calls in another way. It is the person's:
   * keep it nowhere, and send it to that API only.
   *
   * @throws connection.token-bound, and as fetch
   */
  token(api: string): Promise<string>;
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

export function viewSession(context: Context, { session, person }: FoundSession): Session {
  const { kind, authenticatedAt, authenticationClass } = session;
  const view: Writable<Session> = {
    person,
    provider: session.provider,
    signedInAt: session.createdAt,
    provedWithin: (seconds) =>
      authenticatedAt !== undefined && context.tools.platform.now() - authenticatedAt <= seconds,
    expiresAt: session.expiresAt,
    identities: () => context.store.findIdentities(person.id),
    async connection(provider = session.provider) {
      const connection = await context.store.findConnection(session.id, provider);
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
    },
    token: (api) => bearerToken(context, session.id, requireApi(context, api)),
    async sessions() {
      const found = await context.store.findSessions({ personId: person.id });
      return found
        .filter((each) => each.session.expiresAt > context.tools.platform.now())
        .map((each) => ({
          id: each.session.id,
          provider: each.session.provider,
          ...(each.session.device !== undefined && { device: each.session.device }),
          ...(each.session.lastSeenAt !== undefined && { lastSeenAt: each.session.lastSeenAt }),
          signedInAt: each.session.createdAt,
          expiresAt: each.session.expiresAt,
          isThis: each.session.id === session.id,
        }));
    },
    async endSession(id) {
      const found = await context.store.findSession(id);
      if (found?.person.id !== person.id) return false;
      await leaveProvider(context, await context.store.endSession(id));
      return true;
    },
    async fetch(api, path, init) {
      return await authorisedFetch(context, session.id, requireApi(context, api), path, init);
    },
  };
  // One by one, and not spread into the literal: this is done with every request.
  if (kind !== undefined) view.kind = kind;
  if (authenticatedAt !== undefined) view.authenticatedAt = authenticatedAt;
  if (authenticationClass !== undefined) view.authenticationClass = authenticationClass;
  return view;
}

type Writable<Record> = { -readonly [Member in keyof Record]: Record[Member] };

/** @throws connection.api-unknown */
export function requireApi({ settings: { apis } }: Context, name: string): Api {
  const declared = Object.hasOwn(apis, name) ? apis[name] : undefined;
  if (declared) return { name, ...declared };
  fail("connection.api-unknown", {
    received: quoted(name),
    expected: `one of the APIs in the settings: ${Object.keys(apis).join(", ") || "(none)"}`,
  });
}

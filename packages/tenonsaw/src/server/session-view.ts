import { authorisedFetch, type Api } from "../connection/index.js";
import { fail, quoted } from "../problem/index.js";
import { readSession, type IdentityRecord, type PersonRecord } from "../session/index.js";
import type { Context } from "./context.js";

/** A signed-in browser, as the app sees it. */
export interface Session {
  readonly person: PersonRecord;
  /** Name of the provider signed in with. */
  readonly provider: string;
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
   * @throws connection.api-unknown, connection.other-origin, connection.none, connection.ended, grant.*, platform.*
   */
  fetch(api: string, path: string, init?: RequestInit): Promise<Response>;
}

/** A connection without its tokens. */
export interface ConnectionView {
  readonly provider: string;
  readonly status: "active" | "ended";
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

export async function viewSession(context: Context, request: Request): Promise<Session | undefined> {
  const value = context.cookies.read(request, "session");
  if (value === undefined) return undefined;
  const found = await readSession(context, value);
  if (!found) return undefined;
  const { session, person } = found;
  return {
    person,
    provider: session.provider,
    signedInAt: session.createdAt,
    ...(session.authenticatedAt !== undefined && { authenticatedAt: session.authenticatedAt }),
    ...(session.authenticationClass !== undefined && { authenticationClass: session.authenticationClass }),
    provedWithin: (seconds) =>
      session.authenticatedAt !== undefined &&
      context.tools.platform.now() - session.authenticatedAt <= seconds,
    expiresAt: session.expiresAt,
    identities: () => context.store.findIdentities(person.id),
    async connection(provider = session.provider) {
      const connection = await context.store.findConnection(session.id, provider);
      return (
        connection && {
          provider: connection.provider,
          status: connection.status,
          scope: connection.scope.split(" ").filter((part) => part !== ""),
          obtainedAt: connection.obtainedAt,
          ...(connection.expiresAt !== undefined && { expiresAt: connection.expiresAt }),
          refreshCount: connection.refreshCount,
          isRenewable: connection.sealedRefreshToken !== undefined,
          kept: connection.kept ?? {},
        }
      );
    },
    async fetch(api, path, init) {
      return await authorisedFetch(context, session.id, requireApi(context, api), path, init);
    },
  };
}

/** @throws connection.api-unknown */
export function requireApi({ settings: { apis } }: Context, name: string): Api {
  const declared = Object.hasOwn(apis, name) ? apis[name] : undefined;
  if (declared) return declared;
  fail("connection.api-unknown", {
    received: quoted(name),
    expected: `one of the APIs in the settings: ${Object.keys(apis).join(", ") || "(none)"}`,
  });
}

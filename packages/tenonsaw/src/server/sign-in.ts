import type { NeedsGiven } from "./sessions/admit.js";
import type { SessionNow } from "../session/index.js";
import type { Wish } from "./routes/ask.js";
import type { AccountView } from "./connections/accounts.js";
import type { CallInit } from "./connections/call.js";
import type { Connectable } from "./connections/connectable.js";
import type { Session } from "./connections/session-view.js";
import type { ProviderEntry } from "./settings/providers.js";

/** Sign-in for a server app: Request in, Response out, in any framework. */
export interface SignIn<Providers extends string = string, Apis extends string = string> {
  /** Answers the sign-in routes; undefined for every other address. */
  handle(request: Request): Promise<Response | undefined>;
  /**
   * Whether an address, or a path with its query, is one of the sign-in routes.
   *
   * @throws server.unfit-argument
   */
  answers(address: string): boolean;
  /**
   * Whether this process can serve: for a health check. Asks the store and no provider, which may be away without this app
   * being so.
   *
   * @throws store.unavailable
   */
  ready(): Promise<void>;
  /** The session of the browser that sent this request, if it has one. Reads the store once. */
  session(request: Request): Promise<Session<Providers, Apis> | undefined>;
  /**
   * What a page may know of its browser's session, for a page that is drawn on the server: `createPageSession({ first })`
   * then knows it without a request. It is this browser's alone: keep the page out of caches.
   *
   * @throws store.unavailable
   */
  sessionNow(request: Request): Promise<SessionNow>;
  /**
   * Calls a declared API as the app itself, with client credentials and without a person.
   *
   * @throws connection.api-unknown, connection.no-client-scope, connection.other-origin, grant.*, platform.*
   */
  fetch(api: Apis, path: string, init?: RequestInit): Promise<Response>;
  /**
   * Calls a declared API for a person who is not here, such as from a job at night: with an account that they have
   * connected, or else with what their latest session at the API's provider holds.
   *
   * @param init as for `fetch`; `account` names one of the person's connected accounts, where there are several
   * @throws as Session.fetch
   */
  fetchFor(personId: string, api: Apis, path: string, init?: CallInit): Promise<Response>;
  /**
   * The accounts that a person has connected, in the environment that this app runs in.
   *
   * @throws store.unavailable
   */
  accounts(personId: string): Promise<readonly AccountView[]>;
  /**
   * Ends a connection of a person's, and takes its tokens back.
   *
   * @param id of the connection, as `accounts` has it
   * @returns false where this person has none such
   * @throws store.unavailable
   */
  disconnect(personId: string, id: string): Promise<boolean>;
  /**
   * Sends a visitor to sign in and back to this page; a request that is not for a page gets 401.
   *
   * @param wish what this page needs: a recent proof of who it is, a way of proving, more scope
   */
  ask(request: Request, wish?: Wish<Providers>): Response;
  /**
   * What only somebody who is signed in gets: everybody else is asked to, and comes back to this page. Where a page needs
   * more, such as a recent proof of who it is or more scope, the person is asked for that.
   *
   * @param needs left out where it is enough to be signed in; a value that is undefined or empty is refused
   * @returns a function for requests to the page; a problem that `handler` lets through is told as by `explain`
   * @throws provider.settings-refused for needs that nobody can have: a misspelt name, or what is not set
   */
  protect(
    handler: (request: Request, session: Session<Providers, Apis>) => Response | Promise<Response>,
    ...needs: NeedsGiven<Providers>
  ): (request: Request) => Promise<Response>;
  /**
   * Whether a request comes from a page of this app: what a form's POST has to be before it changes anything. Pages of
   * other sites can send forms here, with this browser's cookies.
   */
  fromOwnPage(request: Request): boolean;
  /**
   * Removes a person with everything that is theirs here, and takes their tokens back.
   *
   * @returns false where nothing was known of anybody of this ID
   * @throws session.person-unusable for what is no ID, store.in-browser, store.unavailable
   */
  forget(personId: string): Promise<boolean>;
  /**
   * Ends a session, whosever it is, and takes its tokens back: for operators.
   *
   * @param id of `Session.sessions`, or of the store
   * @returns false where there is none such
   * @throws session.id-unusable, store.unavailable
   */
  endSession(id: string): Promise<boolean>;
  /**
   * Ends all sessions of a person, in all browsers, and takes their tokens back: after a change of what they sign in with,
   * or when something was stolen.
   *
   * @returns how many there were
   * @throws session.person-unusable for what is no ID, store.in-browser where sessions are kept there, store.unavailable
   */
  endSessions(personId: string): Promise<number>;
  /**
   * What went wrong as a page: in full in development, in general otherwise; and a line in the log. An error of the app's own
   * is the problem `server.app-failed`.
   *
   * @param request whose it is: the page is then in its language, and a front end gets JSON
   */
  explain(error: unknown, request?: Request): Response;
  /** The providers to offer, for a chooser page of one's own. */
  readonly providers: readonly (ProviderEntry<Providers> & {
    readonly href: string;
    /** Where a form posts to, with `returnTo`, that gives the person who is signed in this way to do so. */
    readonly linkPath: string;
  })[];
  /** The providers whose accounts people can connect, each with where a form posts `returnTo` to. */
  readonly connectable: readonly Connectable[];
  /**
   * Origins of hosts whose pages may show this app in a frame, as `launch.frameAncestors` of the settings has them: for the
   * Content-Security-Policy of the app's own pages.
   */
  readonly frameAncestors: readonly string[];
  /** Where a form posts `connection`, the ID, and `returnTo` to that ends a connection. */
  readonly disconnectPath: string;
  /** Where a page reads, as JSON, what the person has connected and can connect. */
  readonly accountsPath: string;
  /** Where a form posts `issuer`, `subject` and `returnTo` to that takes one of them away. */
  readonly unlinkPath: string;
  /** Where a form that signs out posts to. */
  readonly signOutPath: string;
}

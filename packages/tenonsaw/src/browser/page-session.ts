import { requireCall } from "../connection/require-call.js";
import { limits } from "../platform/limits.js";
import { isProblem, ProblemError, quoted, type Problem, type ProblemCode } from "../problem/index.js";
import type { AccountView } from "../server/connections/accounts.js";
import type { Connectable } from "../server/connections/connectable.js";
import type { ProviderEntry } from "../server/settings/providers.js";
import { askServer } from "./ask-server.js";
import { askOf, createAskings, type Asking, type ProblemAtHand } from "./askings.js";
import {
  follow,
  isObject,
  kindOf,
  launchHeaders,
  whenKnown,
  whoseProblem,
  type FollowedSession,
  type FollowOptions,
  type Now,
} from "./follow-session.js";
import { createLeaving } from "./leaving.js";
import { oddName } from "./names.js";
import { sessionUnclear } from "./require-session.js";
import { hereToReturn, travel, type Ending, type Where } from "./windows.js";

/** What to ask for beyond a sign-in. */
export interface SignInWish extends Where {
  /** Further scopes, separated by spaces. */
  readonly scope?: string;
  /** At most so many seconds since the person proved who they are. */
  readonly maxAge?: number;
  /** How they are to prove it. */
  readonly acrValues?: string;
  readonly loginHint?: string;
}

/** As for `fetch`, and: */
export interface PageCallInit extends RequestInit {
  /** Which of the person's connected accounts, by the provider's ID, where there are several. */
  readonly account?: string;
  /** Whether to wait for the person where they have to agree to something first: `asking` then says so, and the call goes on. */
  readonly wait?: boolean;
}

/** What a page can do about its person, whoever keeps the tokens. */
export interface PageSession extends FollowedSession {
  /** What the page waits for the person to agree to; undefined for nothing. Changes are told as those of `now`. */
  readonly asking: Asking | undefined;
  /** Waits until it is known whether somebody is signed in. */
  known(): Promise<Exclude<Now, { readonly kind: "unknown" }>>;
  /**
   * Signs somebody in, or asks who is signed in for more: scope, a fresh proof of who they are. Where the browser lets no
   * window open, this one goes there, which the console says.
   *
   * @param provider Default: the person chooses
   */
  signIn(provider?: string, wish?: SignInWish): Promise<Ending>;
  /**
   * Signs out in all tabs of this browser, takes the tokens back, and goes on to the provider's own sign-out. Until the browser
   * has left, this page shows `unknown`.
   *
   * @throws platform.unreachable, and what the server answers
   */
  signOut(): Promise<void>;
  /** Takes the way out that a problem carries, or the error that brings it: asks the person to sign in, for more scope, or to connect an account. */
  ask(problem: ProblemAtHand, where?: Where): Promise<Ending>;
  /**
   * Calls a declared API for the person. The page sees no token.
   *
   * @param path a path at the API
   * @throws connection.none, connection.ended, connection.scope-insufficient with `ask`: what to ask the person for;
   *   session.not-signed-in, session.person-changed where somebody else is signed in by now, connection.other-origin, and what else the server answers; like fetch, rejects with a TypeError where
   *   the server cannot be reached
   */
  fetch(api: string, path: string, init?: PageCallInit): Promise<Response>;
}

/** What a person has connected, and can. */
export interface PageAccounts {
  readonly accounts: readonly AccountView[];
  readonly providers: readonly Connectable[];
}

/** A page of an app whose server keeps the tokens. */
export interface ServedPageSession extends PageSession {
  /** @param how `everywhere`: in all of the person's browsers */
  signOut(how?: { readonly everywhere?: boolean }): Promise<void>;
  /** The providers to offer. */
  providers(): Promise<readonly (ProviderEntry & { readonly href: string })[]>;
  /** @throws platform.unreachable, and what the server answers */
  accounts(): Promise<PageAccounts>;
  /**
   * Connects an account, repairs it, or asks for more scope there.
   *
   * @param wish `account`: the one that is to be repaired or to allow more
   */
  connect(
    provider: string,
    wish?: Where & { readonly scope?: string; readonly account?: string },
  ): Promise<Ending>;
  /**
   * Ends a connection, by its `id`.
   *
   * @throws connection.none, platform.unreachable, and what else the server answers
   */
  disconnect(id: string): Promise<void>;
}

/** Whether a server keeps the tokens. */
export function isServed(session: PageSession): session is ServedPageSession {
  return "providers" in session;
}

/**
 * A page of an app whose server keeps the tokens: who is signed in, and everything that a page does about it.
 *
 * @throws page.session-unclear
 */
export function createPageSession(given: FollowOptions = {}): ServedPageSession {
  const { basePath = "/sign-in", ...options } = given;
  const odd = oddName(given, ["basePath", "first", "launch"]);
  // Another path would be asked below whichever page it is, or at another server.
  if (odd !== undefined || !/^\/([^/].*)?[^/]$/.test(basePath))
    throw sessionUnclear(
      'basePath, a path such as "/sign-in" as in the server\'s settings, first and launch, and nothing else',
      odd ?? `basePath ${quoted(basePath, 60)}`,
      "options",
    );
  const leaving = createLeaving(() => followed.look());
  /** What stands for the person whom this page is drawn for, as far as it knows. */
  let personTag: string | undefined;
  const followed = follow({ basePath, ...options }, leaving.shown, (tag) => (personTag = tag));
  const ofPerson = (tag = personTag): Readonly<Record<string, string>> =>
    tag === undefined ? {} : { "tenonsaw-person": tag };
  /** Whoever is here now, the page is drawn for them before anything else is done. */
  const lookAfter = (error: unknown) => {
    if (isProblem(error, "session.not-signed-in", "session.person-changed")) void followed.look();
  };
  const ofLaunch = launchHeaders(options.launch);
  const returnPath = (where: Where) => where.returnTo ?? hereToReturn(limits.returnPath);

  const go = async (
    provider: unknown,
    where: Where,
    begin: Parameters<typeof travel>[4],
  ): Promise<Ending> => {
    const ending = await travel(provider, where, `tenonsaw ${basePath}`, hear, begin);
    await followed.look();
    return ending;
  };

  const send = async (path: string, init?: RequestInit): Promise<Readonly<Record<string, unknown>>> => {
    const headers = { accept: "application/json", ...ofLaunch, ...ofPerson() };
    const { answer, told } = await askServer(basePath + path, { ...init, headers }).catch(
      (cause: unknown) => {
        throw new ProblemError("platform.unreachable", { received: "no answer from this app", cause });
      },
    );
    if (answer.ok && isObject(told)) return told;
    if (!isObject(told) || !("signIn" in told)) {
      const error = toldProblem(answer, told);
      lookAfter(error);
      throw error;
    }
    // Known to whoever shows the session, before they hear of this.
    await followed.look();
    throw notSignedIn();
  };
  const post = (path: string, fields: Readonly<Record<string, string | undefined>>) =>
    send(path, { method: "POST", body: parametersOf(fields) });
  const elsewhere = () =>
    new ProblemError("page.server-elsewhere", { received: "JSON that is not this app's" });
  const addressIn = (value: unknown): string => {
    if (typeof value !== "string") throw elsewhere();
    return value;
  };
  const listIn = (value: unknown): readonly never[] => {
    if (!Array.isArray(value)) throw elsewhere();
    return value as never[];
  };

  const page: Omit<ServedPageSession, keyof FollowedSession | "asking"> = {
    known: () => whenKnown(followed),
    signIn: (provider, { scope, maxAge, acrValues, loginHint, ...where } = {}) =>
      go(provider, where, (ending) => {
        const path = provider === undefined ? "" : `/to/${encodeURIComponent(provider)}`;
        const wish = { scope, maxAge: maxAge?.toString(), acrValues, loginHint };
        const fields = { returnTo: returnPath(where), in: ending, ...wish };
        return `${basePath}${path}?${parametersOf(fields).toString()}`;
      }),
    signOut: ({ everywhere = false, ...more } = {}) =>
      leaving.leave(async () => {
        const unknown = oddName(more, []);
        // Whoever means all of the person's browsers is not to believe that they are signed out there.
        if (unknown !== undefined)
          throw new ProblemError("page.trip-unclear", {
            received: unknown,
            expected: "everywhere",
            because: "name",
          });
        const { goTo } = await post("/out", { everywhere: everywhere ? "yes" : undefined });
        // Every tab shows it, before this one leaves.
        await followed.look();
        return addressIn(goTo);
      }),
    ask(told, where) {
      const ask = askOf(told);
      if (ask?.by === "connecting")
        return page.connect(ask.provider, { ...where, ...scopeOf(ask), ...accountOf(ask) });
      return page.signIn(ask?.provider, { ...where, ...(ask && scopeOf(ask)) });
    },
    async fetch(api, path, given = {}) {
      requireCall(path, given);
      const { account, wait = false, ...init } = given;
      const { now } = followed;
      const base = now.kind === "somebody" ? now.launch?.base : undefined;
      // A host's list names its next page by its whole address.
      const isWhole = base !== undefined && path.startsWith(`${base}/`);
      const url = relayUrl(basePath, api, isWhole ? path.slice(base.length) : path);
      /** Who it is for is settled when it is made, however long it waits. */
      let madeFor = personTag;
      const call = async () => {
        const headers = new Headers(init.headers);
        headers.set("tenonsaw-relay", "1");
        for (const [name, value] of Object.entries({ ...ofLaunch, ...ofPerson(madeFor) }))
          headers.set(name, value);
        if (account !== undefined) headers.set("tenonsaw-account", encodeURIComponent(account));
        const answer = await fetch(url, { ...init, headers });
        // Of this app: an API's own answer never has it.
        if (!answer.headers.has("tenonsaw-problem")) return answer;
        throw toldProblem(answer, await answer.json().catch(() => undefined));
      };
      try {
        return await call();
      } catch (error) {
        lookAfter(error);
        const canWait = wait && !(init.body instanceof ReadableStream);
        if (!canWait || !isProblem(error) || !error.problem.ask) throw error;
        madeFor ??= personTag;
        await askings.agreed(error, init.signal);
        return call();
      }
    },
    async providers() {
      const { providers } = await send("");
      return listIn(providers);
    },
    async accounts() {
      const { accounts, providers } = await send("/accounts");
      return { accounts: listIn(accounts), providers: listIn(providers) };
    },
    connect: (provider, { scope, account, ...where } = {}) =>
      go(provider, where, async (ending) => {
        const fields = { returnTo: returnPath(where), in: ending, scope, account };
        const { goTo } = await post(`/connect/${encodeURIComponent(provider)}`, fields);
        return addressIn(goTo);
      }),
    async disconnect(id) {
      await post("/disconnect", { connection: id, returnTo: "/" });
    },
  };
  const askings = createAskings(page.ask);
  return askings.with(Object.assign(followed, page));
}

/** What the last page of a window says, as the server writes it. */
function hear({ end }: Readonly<Record<string, unknown>>): Ending | undefined {
  if (!isObject(end)) return undefined;
  const { kind, problem } = end;
  if (kind !== "granted" && kind !== "declined" && kind !== "failed") return undefined;
  return { kind, ...(isCode(problem) && { problem: { code: problem } }) };
}

function scopeOf({ scope }: { readonly scope?: string }): { readonly scope?: string } {
  return scope === undefined ? {} : { scope };
}

function accountOf({ account }: { readonly account?: string }): { readonly account?: string } {
  return account === undefined ? {} : { account };
}

function parametersOf(fields: Readonly<Record<string, string | undefined>>): URLSearchParams {
  return new URLSearchParams(
    Object.entries(fields).filter((field): field is [string, string] => field[1] !== undefined),
  );
}

/** @throws connection.other-origin where dots in the path would lead out of the API */
function relayUrl(basePath: string, api: string, path: string): string {
  const base = `${basePath}/relay/${encodeURIComponent(api)}/`;
  const url = new URL(base + path.replace(/^\//, ""), location.origin);
  if (url.origin === location.origin && url.pathname.startsWith(base)) return url.pathname + url.search;
  throw new ProblemError("connection.other-origin", {
    received: quoted(path),
    expected: `a path of ${quoted(api)}`,
  });
}

function notSignedIn(): ProblemError {
  return new ProblemError("session.not-signed-in", { received: "a page of nobody's" });
}

/** What the server says went wrong; the status alone, where it says nothing. */
function toldProblem(answer: Response, told: unknown): ProblemError {
  const members = isObject(told) ? (isObject(told["problem"]) ? told["problem"] : told) : {};
  const { code, detail, received, ask } = members;
  const retryAfter = Number(answer.headers.get("retry-after") ?? NaN);
  const said = [detail, received].find((each) => typeof each === "string");
  return new ProblemError(isCode(code) ? code : whoseProblem(answer, told), {
    received: said ?? `${kindOf(answer)} from this page's own origin`,
    status: answer.status,
    ...textsIn(members),
    ...(isObject(ask) && typeof ask["provider"] === "string" && { ask: ask as unknown as Problem["ask"] }),
    ...(retryAfter >= 0 && { retryAfterSeconds: retryAfter }),
  });
}

/** What the server says of it: all of it in development. */
function textsIn(told: Readonly<Record<string, unknown>>): Partial<Problem> {
  const names = ["title", "because", "expected", "here", "atProvider"] as const;
  return Object.fromEntries(
    names.flatMap((name) => (typeof told[name] === "string" ? [[name, told[name]]] : [])),
  );
}

function isCode(code: unknown): code is ProblemCode {
  return typeof code === "string" && /^[a-z0-9]+\.[a-z0-9-]+$/.test(code);
}

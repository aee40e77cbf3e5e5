import { requireCall } from "../connection/require-call.js";
import { isProblem, ProblemError, problemText, quoted, type Problem } from "../problem/index.js";
import { askOf, createAskings } from "./askings.js";
import { createAsker, endingWith } from "./ask-worker.js";
import { isObject, tellAll, whenKnown, type Now } from "./follow-session.js";
import { createLeaving } from "./leaving.js";
import type { PageSession, SignInWish } from "./page-session.js";
import type { Change, Trip, TripWish } from "./token-holder.js";
import { hearFrame, isInForeignFrame, leaveFor, newId, travel, type Ending } from "./windows.js";
import type { FetchAnswer, FetchAsked } from "./worker-calls.js";

/** What a page needs to be a client by itself. */
export interface PageSignInOptions {
  /**
   * Makes the worker that keeps the tokens, which calls holdTokens of `tenonsaw/page-worker`: written so that a bundler sees it,
   * `() => new Worker(new URL("./tokens.js", import.meta.url), { type: "module" })`.
   */
  readonly worker: () => Worker;
}

/** A page that is itself the client. */
export interface PageClientSession extends PageSession {
  /** How the trip ended that has just led to this page; undefined where none did. */
  readonly arrival: Ending | undefined;
}

interface Known {
  readonly now: Now;
  readonly wasSomebody: boolean;
}

/** A frame has so long to say whether somebody is signed in; one that is blocked says nothing. */
const frameSeconds = 5;
/** Another page of this origin says within so long that it has heard. */
const hearingMilliseconds = 1000;

/**
 * Sign-in of a page without a server of its own: the page is the client (authorization code with PKCE, no secret), and a worker
 * keeps the tokens and makes the calls. It takes the answer in this page's address, if there is one, and knows then whether
 * somebody is signed in: call it before anything else reads the address. A page that is only the end of a trip in a window or a
 * frame passes it on, and never goes on itself.
 *
 * @throws page.insecure-origin, page.settings-refused, page.secret-refused, page.client-credentials-refused, page.worker-silent,
 *   page.worker-failed; what went wrong with the provider is in `arrival`
 */
export async function openPageSignIn(options: PageSignInOptions): Promise<PageClientSession> {
  const listeners = new Set<(now: Now) => void>();
  let now: Now = { kind: "unknown" };
  let wasSomebody = false;
  // Where pages are made on a server, there is neither.
  const { isSecureContext: isSecure, document: page } = globalThis as Partial<typeof globalThis>;
  if (isSecure !== true || !page)
    await inFull(
      new ProblemError("page.insecure-origin", {
        received: page ? location.origin : "no page",
        because: page ? undefined : "no-page",
      }),
    );
  const worker = (options as PageSignInOptions | undefined)?.worker;
  const send = createAsker(
    worker,
    (change) => void pass(change),
    (problem) => void say(problem),
  );
  const started = await send<Known & { name: string; redirectUri: string }>({ do: "start" }).catch(
    (error: unknown) => inFull(error),
  );
  const { name, redirectUri } = started;
  const channel = new BroadcastChannel(name);

  const take = (known: Known) => {
    wasSomebody = known.wasSomebody;
    const next = leaving.shown(known.now);
    if (JSON.stringify(next) === JSON.stringify(now)) return;
    now = next;
    tellAll(listeners, now);
  };
  const look = async () => take(await send<Known>({ do: "now" }));
  const leaving = createLeaving(look);
  /** Something is another than before, here; the other tabs are told. */
  const pass = async (change: Change) => {
    channel.postMessage(change);
    await look();
  };

  const finish = async (url: string): Promise<Ending & { readonly trip?: Trip }> => {
    const trip = await send<Trip>({ do: "finish", url }).catch((error: unknown) => {
      if (!isProblem(error)) throw error;
      const { problem } = error;
      return { kind: "failed", returnTo: "/", isSilent: false, problem } satisfies Trip;
    });
    if (trip.problem && !trip.isSilent) void say(trip.problem);
    if (trip.kind === "granted") await look();
    return { kind: trip.kind, ...(trip.problem && { problem: trip.problem }), trip };
  };
  /** Another page of this origin has brought back what this one began. */
  const hear = (data: Readonly<Record<string, unknown>>) =>
    typeof data["callback"] === "string" ? finish(data["callback"]) : undefined;
  const begin = (wish: TripWish) => send<string>({ do: "begin", wish });
  const thisPage = () => location.pathname + location.search + location.hash;

  const go = (
    provider: unknown,
    { in: where, returnTo = thisPage(), ...request }: SignInWish,
  ): Promise<Ending> =>
    travel(provider, { ...(where && { in: where }) }, name, hear, (popUp) =>
      begin({ in: popUp ?? "this window", returnTo, request }),
    );

  /** Asks the provider without anybody seeing it, in a frame; whether it is worth asking in another way as well. */
  const askInFrame = async (): Promise<"granted" | "refused" | "silent" | "away"> => {
    const id = newId();
    const wish = { in: `frame.${id}`, returnTo: "/", request: { prompt: "none" } };
    const url = await begin(wish).catch((error: unknown) => {
      // Nobody is asked while the provider is away, and nothing more happens than that.
      if (!isProblem(error)) throw error;
      void say(error.problem);
    });
    if (url === undefined) return "away";
    const ending = await hearFrame(url, id, name, hear, frameSeconds);
    if (ending) return ending.kind === "granted" ? "granted" : "refused";
    const received = `no answer of ${new URL(url).origin} in ${frameSeconds} s`;
    void say(new ProblemError("page.frame-silent", { received }).problem);
    return "silent";
  };

  /** What came in this page's address. Nothing else is to read it, nor to stay in the history. */
  const state = { hasArrived: false };
  const arrive = async (): Promise<Ending | undefined> => {
    const answer = answerHere(redirectUri);
    if (!answer) {
      // Some refuse a request in so early that they do not repeat its state: nobody can tell whose it is, nor keep it from being read.
      const at = new URLSearchParams(location.search);
      const said = ["error", "error_description"].flatMap((name) => at.get(name) ?? []);
      if (at.has("error") && !at.has("state"))
        void say(
          new ProblemError("response.state-missing", {
            received: said.map((each) => quoted(each)).join(": "),
          }).problem,
        );
      return undefined;
    }
    state.hasArrived = true;
    const before = taken.get(answer.state);
    const taking = before?.then(() => undefined) ?? endTrip(answer.href);
    if (!before) taken.set(answer.state, taking);
    return taking;
  };
  const endTrip = async (href: string): Promise<Ending | undefined> => {
    const { pathname } = new URL(href);
    let shown = href;
    const show = (path: string) => {
      if (location.href === shown) history.replaceState(history.state, "", path);
      else void say(new ProblemError("page.answer-removed", { received: quoted(location.pathname) }).problem);
      shown = location.href;
    };
    const [kind, id] = (await send<string | undefined>({ do: "whereOf", url: href }))?.split(".") ?? [];
    const isHeard = id !== undefined && (await passOn(channel, id, href));
    if (kind === "frame") return forever;
    if (isHeard) {
      close();
      // A browser may refuse that where the provider's page had cut the window off: then it is a page like any other.
      await new Promise((resolve) => setTimeout(resolve, hearingMilliseconds));
      show(pathname);
      return undefined;
    }
    if (location.href === href) show(pathname);
    const { trip, ...ending } = await finish(href);
    show(trip?.returnTo ?? pathname);
    return trip?.isSilent ? undefined : ending;
  };

  // A page that is only the end of a trip hears nothing, and asks nobody.
  const arrival = await arrive();
  channel.addEventListener("message", ({ data }: MessageEvent<unknown>) => {
    if (!isObject(data)) return;
    if (data["isOut"] === true) void send({ do: "drop" }).then(look);
    // Where each tab has tokens of its own, it asks for them.
    if (data["isChanged"] === true)
      void look().then(async () => {
        if (now.kind === "nobody" && wasSomebody && (await askInFrame()) === "granted") await look();
      });
  });
  const first = state.hasArrived ? await send<Known>({ do: "now" }) : started;
  if (first.now.kind === "nobody" && first.wasSomebody && !isInForeignFrame()) {
    const asked = await askInFrame();
    // A frame gets no cookies where those of other sites are blocked: in this window the provider knows. Once.
    if ((asked === "refused" || asked === "silent") && !state.hasArrived)
      await leaveFor(
        await begin({ in: "this window", returnTo: thisPage(), request: { prompt: "none" } }),
        true,
      );
    await look();
  } else take(first);

  window.addEventListener("pageshow", ({ persisted }) => {
    if (persisted) void look();
  });
  document.addEventListener("visibilitychange", () => {
    if (document.visibilityState === "visible") void look();
  });

  const session: Omit<PageClientSession, "asking"> = {
    first: now,
    get now() {
      return now;
    },
    arrival,
    subscribe(listener) {
      listeners.add(listener);
      return () => void listeners.delete(listener);
    },
    look,
    close: () => channel.close(),
    known: () => whenKnown(session),
    signIn: (provider, wish = {}) => go(provider, wish),
    signOut: () => leaving.leave(() => send<string | undefined>({ do: "signOut" })),
    ask: (told, where = {}) => {
      const scope = askOf(told)?.scope;
      return go(undefined, { ...where, ...(scope !== undefined && { scope }) });
    },
    async fetch(api, path, given = {}) {
      requireCall(path, given);
      const { wait = false, account: _none, signal, ...init } = given;
      signal?.throwIfAborted();
      const asked = new Request(new URL(path, "http://path.invalid"), init);
      // Firefox has no `Request.body` to look at: whether there is one shows when it is read.
      const read = await asked.arrayBuffer();
      const body = read.byteLength > 0 ? read : undefined;
      const request: FetchAsked = {
        api,
        path,
        method: asked.method,
        headers: [...asked.headers],
        ...(body && { body }),
        // Settled when the call is made, however long it waits.
        ...(now.kind === "somebody" && now.person.id !== undefined && { madeFor: now.person.id }),
      };
      const call = async () => {
        const answer = await send<FetchAnswer>({ do: "fetch", request }, signal);
        const { status, statusText, headers } = answer;
        const body = endingWith(answer.body, signal);
        return new Response(body, { status, statusText, headers: [...headers] });
      };
      try {
        return await call();
      } catch (error) {
        if (!isProblem(error)) throw error;
        if (isProblem(error, "session.person-changed")) void look();
        const isOver = isProblem(error, "connection.ended", "connection.none");
        if (isOver && wasSomebody && (await askInFrame()) === "granted") return call();
        if (isProblem(error, "page.cors-refused", "page.policy-refused")) void say(error.problem);
        if (!wait || !error.problem.ask) throw error;
        await askings.agreed(error, signal);
        return call();
      }
    },
  };
  const askings = createAskings(session.ask);
  return askings.with(session);
}

const forever = new Promise<never>(() => undefined);

/**
 * The answers that were taken in this page, by their states: each once, however often it is opened, as in a strict mode that draws
 * twice. Where the first of them is the end of a trip, so are the others.
 */
const taken = new Map<string, Promise<Ending | undefined>>();

/** The answer in this page's address, or in the one that it was loaded with, where something has put another in its place. */
function answerHere(redirectUri: string): { readonly href: string; readonly state: string } | undefined {
  const place = (url: URL) => url.origin + url.pathname;
  const loaded = performance.getEntriesByType("navigation").map(({ name }) => name);
  for (const href of [location.href, ...loaded]) {
    const url = new URL(href);
    const state = [url.searchParams, new URLSearchParams(url.hash.slice(1))]
      .find((each) => each.has("state") && ["code", "error", "id_token"].some((name) => each.has(name)))
      ?.get("state");
    if (typeof state === "string" && place(url) === place(new URL(redirectUri))) return { href, state };
  }
  return undefined;
}

/** Hands what came back to the page that began it; true where that one has heard. */
function passOn(channel: BroadcastChannel, id: string, callback: string): Promise<boolean> {
  return new Promise((resolve) => {
    const timer = setTimeout(() => resolve(false), hearingMilliseconds);
    channel.addEventListener("message", ({ data }: MessageEvent<unknown>) => {
      if (!isObject(data) || data["heard"] !== id) return;
      clearTimeout(timer);
      resolve(true);
    });
    channel.postMessage({ id, callback });
  });
}

/** In the console, with all that the catalogue says of it: whoever builds the page reads it there. */
async function say(problem: Problem): Promise<void> {
  console.warn(problemText(await withAllTexts(problem)));
}

/** What a page was set up with wrongly is told in full where it is caught. */
async function inFull(error: unknown): Promise<never> {
  if (!isProblem(error)) throw error;
  throw new ProblemError(error.problem.code, await withAllTexts(error.problem));
}

/** As it is, where its texts cannot be loaded. */
const withAllTexts = (problem: Problem): Promise<Problem> =>
  import("../problem/texts.js").then(
    ({ withTexts }) => withTexts(problem),
    () => problem,
  );

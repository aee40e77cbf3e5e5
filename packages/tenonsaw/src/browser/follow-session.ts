import type { ProblemCode } from "../problem/index.js";
import type { Launch, PersonForPages, SessionNow } from "../session/index.js";
import { askServer } from "./ask-server.js";

/** Whether somebody is signed in, as far as a page knows. */
export type Now =
  /**
   * Not known yet: draw neither. `problem` once the question has failed, which the console says more of; it is asked again by
   * itself.
   */
  | { readonly kind: "unknown"; readonly problem?: Unanswered["problem"] }
  | { readonly kind: "nobody" }
  | {
      readonly kind: "somebody";
      /** What the server tells pages of the person. */
      readonly person: PersonForPages;
      /** Name of the provider signed in with; absent where the page itself is the client. */
      readonly provider?: string;
      /** In which context a host has opened this page. */
      readonly launch?: Launch;
      /** The patient that the same host has opened in another tab since, where that is another one. */
      readonly openedElsewhere?: string;
    };

/** Nobody has said whether somebody is signed in. */
interface Unanswered {
  /** No answer, or a failure: or that of another server than the app's own. */
  readonly problem: "platform.unreachable" | "page.server-elsewhere";
  readonly received: string;
}

/** The session of this browser, followed from a page. */
export interface FollowedSession {
  /** The same object until something changes. */
  readonly now: Now;
  /** As it was when this began: what a page that was drawn on the server shows. */
  readonly first: Now;
  /** Calls after each change; what it returns ends that. */
  readonly subscribe: (listener: (now: Now) => void) => () => void;
  /** Asks at once, and waits until it is answered or has failed. */
  look(): Promise<void>;
  /** Ends all of it. */
  close(): void;
}

/** Where the session is asked for. */
export interface FollowOptions {
  /** The path under which the sign-in routes live, as in the server's settings. Default: `/sign-in`. */
  readonly basePath?: string;
  /** What the server knew when it drew the page, by `signIn.sessionNow(request)`: then nothing is asked at first. */
  readonly first?: SessionNow;
  /** Which launch this page is of, where a host has opened it: `launchHere()`. */
  readonly launch?: string | undefined;
}

/** setTimeout counts no further. */
const longestMilliseconds = 2 ** 31 - 1;
/** A page in front asks every so many seconds; seldom where it is told; soon where it was not answered. */
const pauses = { asking: 30, told: 300, unanswered: 5 };

/**
 * Follows from a page of a server app whether its browser has a session, and whose: it looks when the page begins, when it
 * is shown again, also by the back button out of the browser's memory, when the network is back, when another tab has seen
 * a change, when the session should be over, and every half a minute while the page is in front; where the server offers
 * events, it is told. On a server, where pages are drawn, it only knows what `first` says.
 */
export function followSession(options?: FollowOptions): FollowedSession {
  return follow(options);
}

/**
 * @param shown what of what is known is shown
 * @param onPerson is told what stands for the person whom the page is drawn for from now on
 */
export function follow(
  { basePath = "/sign-in", first, launch }: FollowOptions = {},
  shown = (now: Now): Now => now,
  onPerson: (personTag: string | undefined) => void = () => undefined,
): FollowedSession {
  const listeners = new Set<(now: Now) => void>();
  let now: Now = { kind: "unknown" };
  let known: string | undefined;
  const set = (next: Now) => {
    now = next;
    tellAll(listeners, now);
  };
  const take = (told: SessionNow): boolean => {
    const { signedIn, personTag, person = {}, provider, launch: context } = told;
    const tag = told.tag ?? personTag ?? "nobody";
    if (known === tag && now.kind !== "unknown") return false;
    known = tag;
    onPerson(personTag);
    set(
      shown(
        signedIn
          ? {
              kind: "somebody",
              person,
              ...(provider !== undefined && { provider }),
              ...(context && { launch: context }),
            }
          : { kind: "nobody" },
      ),
    );
    return true;
  };
  if (first) take(first);
  const followed = {
    first: now,
    get now() {
      return now;
    },
    subscribe: (listener: (now: Now) => void) => {
      listeners.add(listener);
      return () => void listeners.delete(listener);
    },
  };
  if (typeof document === "undefined")
    return Object.assign(followed, { look: () => Promise.resolve(), close: () => undefined });

  // Its requests would name no launch, and be nobody's.
  const unnamed = "page.launch-unnamed" satisfies ProblemCode;
  if (launch === undefined && new URLSearchParams(location.search).has("launched"))
    console.warn(
      `${unnamed}: a host has opened this page, and its session names no launch. Expected: { launch: launchHere() }.`,
    );
  const channel = new BroadcastChannel(`tenonsaw ${basePath}`);
  const ending = new AbortController();
  const { signal } = ending;
  let timer: ReturnType<typeof setTimeout> | undefined;
  let stream: EventSource | undefined;
  let streamAt: string | undefined;
  let endsAt = Infinity;
  let looking: Promise<void> | undefined;
  let isWanted = false;

  const isInFront = () => document.visibilityState === "visible";
  const look = () => {
    isWanted = true;
    looking ??= lookWhileWanted().finally(() => (looking = undefined));
    return looking;
  };
  const lookWhileWanted = async () => {
    while (isWanted && !signal.aborted) {
      isWanted = false;
      await lookOnce();
    }
  };
  const lookOnce = async () => {
    const told = await askSession(basePath, launch);
    if (signal.aborted) return;
    const isTold = "signedIn" in told;
    if (isTold) {
      // By this machine's steady clock: the other one may be set.
      endsAt = performance.now() / 1000 + (told.endsInSeconds ?? Infinity);
      streamAt = told.events;
      if (take(told)) channel.postMessage({ tag: known, opened: contextOf(now) });
    } else if (now.kind === "unknown" && now.problem !== told.problem) {
      // Whoever cannot be reached has not said that anything changed.
      set({ kind: "unknown", problem: told.problem });
      console.warn(
        `${told.problem}: ${told.received}. Expected: the app's server, started, at this page's origin. Where the page has a dev server of its own, let that pass ${basePath} on; basePath is as in the settings.`,
      );
    }
    listen();
    schedule(isTold);
  };
  const schedule = (isAnswered: boolean) => {
    clearTimeout(timer);
    const pause = stream ? pauses.told : isAnswered ? pauses.asking : pauses.unanswered;
    const untilEnd = Math.max(endsAt - performance.now() / 1000, 0) + 1;
    const seconds = Math.min(isInFront() ? pause : Infinity, untilEnd);
    if (seconds < Infinity)
      timer = setTimeout(() => void look(), Math.min(seconds * 1000, longestMilliseconds));
  };
  /** One connection, and only for a page that is in front: a browser has few of them for one origin. */
  const listen = () => {
    if (!isInFront() || streamAt === undefined) {
      stream?.close();
      stream = undefined;
    } else if (!stream) {
      const opened = new EventSource(streamAt);
      stream = opened;
      opened.addEventListener("change", () => void look());
      opened.addEventListener("error", () => {
        if (opened.readyState !== EventSource.CLOSED || stream !== opened) return;
        stream = undefined;
        streamAt = undefined;
        void look();
      });
    }
  };
  channel.addEventListener("message", ({ data }: MessageEvent<unknown>) => {
    if (!isObject(data) || !("tag" in data) || data["tag"] === known) return;
    const [own, other] = [contextOf(now), data["opened"]];
    // A page of one launch hears nothing of its own from another.
    if (!isObject(other)) void look();
    else if (now.kind === "somebody" && own?.host === other["host"] && own?.patient !== other["patient"])
      set({ ...now, openedElsewhere: String(other["patient"]) });
  });
  window.addEventListener(
    "pageshow",
    ({ persisted }) => {
      if (!persisted) return;
      // What it shows is from before: whoever it was, it may be somebody else's now.
      known = undefined;
      onPerson(undefined);
      set({ kind: "unknown" });
      void look();
    },
    { signal },
  );
  document.addEventListener(
    "visibilitychange",
    () => {
      if (isInFront()) return void look();
      listen();
      schedule(true);
    },
    { signal },
  );
  window.addEventListener("online", () => void look(), { signal });
  if (first) {
    endsAt = performance.now() / 1000 + (first.endsInSeconds ?? Infinity);
    streamAt = first.events;
    listen();
    schedule(true);
  } else void look();
  return Object.assign(followed, {
    look,
    close() {
      ending.abort();
      clearTimeout(timer);
      stream?.close();
      channel.close();
    },
  });
}

/** One that throws keeps nothing from the others; a page hears of it as of any error of its own. */
export function tellAll<Told>(listeners: Iterable<(told: Told) => void>, told: Told): void {
  for (const listener of [...listeners]) {
    try {
      listener(told);
    } catch (error) {
      reportError(error);
    }
  }
}

/** Waits until it is known whether somebody is signed in. */
export function whenKnown(
  session: Pick<FollowedSession, "now" | "subscribe">,
): Promise<Exclude<Now, { readonly kind: "unknown" }>> {
  return new Promise((resolve) => {
    const settle = () => {
      const { now } = session;
      if (now.kind === "unknown") return;
      end();
      resolve(now);
    };
    const end = session.subscribe(settle);
    settle();
  });
}

/** Whose record this page is about, as other tabs hear it. */
function contextOf(now: Now): { readonly host: string; readonly patient: string } | undefined {
  if (now.kind !== "somebody" || now.launch?.patient === undefined) return undefined;
  return { host: now.launch.host, patient: now.launch.patient };
}

async function askSession(basePath: string, launch: string | undefined): Promise<SessionNow | Unanswered> {
  const path = `${basePath}/session`;
  try {
    const signal = AbortSignal.timeout(10_000);
    const { answer, told } = await askServer(path, { signal, headers: launchHeaders(launch) });
    if (answer.ok && isObject(told) && typeof told["signedIn"] === "boolean")
      return told as unknown as SessionNow;
    return { problem: whoseProblem(answer, told), received: `${kindOf(answer)} at ${path}` };
  } catch {
    return { problem: "platform.unreachable", received: `no answer at ${path}` };
  }
}

/** Whether what has not answered as the app's server does is that server, or stands in front of it, or is another. */
export function whoseProblem({ status }: Response, told: unknown): Unanswered["problem"] {
  const isOurs = isObject(told) && ("problem" in told || "code" in told);
  return isOurs || status >= 500 ? "platform.unreachable" : "page.server-elsewhere";
}

export function kindOf({ status, headers }: Response): string {
  return `status ${status}, ${headers.get("content-type") ?? "no content type"}`;
}

/** What a page of a launch sends with each request: two of them in one browser are two. */
export function launchHeaders(launch: string | undefined): Readonly<Record<string, string>> {
  return launch === undefined ? {} : { "tenonsaw-launch": launch };
}

export function isObject(value: unknown): value is Readonly<Record<string, unknown>> {
  return typeof value === "object" && value !== null;
}

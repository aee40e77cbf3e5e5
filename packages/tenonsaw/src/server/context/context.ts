import type QuickLRU from "quick-lru";
import type { Connecting, MachineFetch } from "../../connection/index.js";
import type { ConnectionRecord, Cookies } from "../../session/index.js";
import type { BrowserStore } from "../../stores/cookie.js";
import type { Answers } from "../pages/answers.js";
import type { Providers } from "../settings/providers.js";
import type { ResolvedSignInSettings, SignInSettings } from "../settings/settings-types.js";
import type { Recorder, Ways } from "../../trace/index.js";
import type { Wording } from "../pages/texts.js";
import type { Reach } from "./reach.js";

type MaybePromise<Value> = Value | Promise<Value>;

/** An attempt that was opened: its ID, where to send the browser, and the cookie that binds it. */
export interface BegunAttempt {
  readonly id: string;
  readonly url: string;
  readonly cookies: readonly string[];
}

/** Everything the routes work with, assembled once. */
export interface Context extends Connecting, Pick<SignInSettings, "welcome"> {
  readonly settings: ResolvedSignInSettings;
  /** The environment that the app runs in; empty where its settings have none. */
  readonly environment: string;
  /** Whose a request is, where the app has its own sign-in. */
  readonly ownPersonOf?: (request: Request, original: unknown) => MaybePromise<string | undefined>;
  /** Where sessions are kept in their browsers: `store` is then that of the request at hand, or refuses. */
  readonly browserStore?: BrowserStore;

  readonly providers: Providers;
  readonly cookies: Cookies;
  /** What happened lately, in development on this machine. */
  readonly recorder?: Recorder;
  /** What belongs together, where somebody is told. */
  readonly ways?: Ways;
  readonly answers: Answers;
  /** Whether attempts that this process is finishing, or has finished lately, are granted, and since when; by their ID. */
  readonly finishing: QuickLRU<
    string,
    { readonly isGranted: Promise<boolean>; readonly at: number; readonly goTo?: string }
  >;
  /** What could not be taken back at its provider yet, by the connection's ID, and until when it is tried. */
  readonly unrevoked: Map<string, { readonly connection: ConnectionRecord; readonly until: number }>;
  /** What browsers began just now, by the value of their cookie and the address. */
  readonly beginning: QuickLRU<string, { readonly begun: Promise<BegunAttempt>; readonly at: number }>;
  /** When this process opened it, by its monotonic clock. */
  readonly openedAt: number;
  /** What the pages say, in the language of a request. */
  readonly wordingOf: (request?: Request) => Wording;
  readonly machine: MachineFetch;
  readonly reach: Reach;
  readonly sweep: () => Promise<void>;
  /** Seconds until a request like this one is answered; undefined for at once. */
  readonly limitRate: NonNullable<SignInSettings["limitRate"]>;
}

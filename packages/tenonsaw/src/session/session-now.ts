import type { LaunchContext } from "../launch/index.js";

/** What a page may know of its browser's session: what `GET <basePath>/session` answers. */
export interface SessionNow {
  readonly signedIn: boolean;
  /** Differs as soon as the session is another one. */
  readonly tag?: string;
  /** In how many seconds it ends, as far as is known now: a page's own clock may be wrong. */
  readonly endsInSeconds?: number;
  /** Name of the provider signed in with. */
  readonly provider?: string;
  /** What the setting `toldToPages` names. */
  readonly person?: PersonForPages;
  /** In which context a host has opened the app: for a page that names its launch. */
  readonly launch?: LaunchForPages;
  /** Where a page is told that it has ended, by server-sent events; where the settings offer them. */
  readonly events?: string;
}

/** What pages may know of the person. */
export interface PersonForPages {
  readonly id?: string;
  readonly name?: string;
  readonly email?: string;
  readonly picture?: string;
  /** What `sessionClaims` names. */
  readonly claims?: Readonly<Record<string, unknown>>;
}

/** What pages may know of a launch. */
export interface LaunchForPages extends LaunchContext {
  /** Name of the provider in the settings. */
  readonly host: string;
  readonly title: string;
  readonly base: string;
  readonly user?: string;
  readonly style?: Readonly<Record<string, string>>;
  readonly scope: readonly string[];
  readonly notGranted: readonly string[];
}

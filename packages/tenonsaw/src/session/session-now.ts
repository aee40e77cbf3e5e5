import type { LaunchContext } from "../launch/index.js";

/** What a page may know of its browser's session: what `GET <basePath>/session` answers. */
export interface SessionNow {
  readonly signedIn: boolean;
  /** Differs as soon as the session is another one. */
  readonly tag?: string;
  /**
   * Stands for the person, and is the same in all of their sessions: what a page sends along with its calls, so that none is made for
   * somebody else.
   */
  readonly personTag?: string;
  /** In how many seconds it ends, as far as is known now: a page's own clock may be wrong. */
  readonly endsInSeconds?: number;
  /** Name of the provider signed in with. */
  readonly provider?: string;
  /** What the setting `toldToPages` names. */
  readonly person?: PersonForPages;
  /** In which context a host has opened the app: for a page that names its launch. */
  readonly launch?: Launch;
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

/** In which context a host has opened the app: of one launch, and of no other in the same browser. */
export interface Launch extends LaunchContext {
  /** Name of the provider in the settings; with the tenant behind a dot, where its hosts have tenants. */
  readonly host: string;
  /** What people see of it. */
  readonly title: string;
  /** Where its API is: with SMART the base URL of the FHIR server. */
  readonly base: string;
  /** Where the host's record of the person is: `fhirUser`, as a whole address. */
  readonly user?: string;
  /** The host's colours and sizes by the standard's names, such as `color_background`; every value one that CSS takes. */
  readonly style?: Readonly<Record<string, string>>;
  /** What the access token allows. */
  readonly scope: readonly string[];
  /** What was asked for and not granted. */
  readonly notGranted: readonly string[];
}

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

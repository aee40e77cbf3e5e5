import type { Platform } from "tenonsaw";
import type { TokenIssuer } from "tenonsaw/guard";
import type { ResolvedSignInSettings } from "tenonsaw/server";

/** An API that a token is held against. */
export interface ApiInQuestion {
  readonly name: string;
  /** Whose tokens it takes, and which: as a guard's settings say it. */
  readonly takes: TokenIssuer;
  /** What the call takes, where that was said. */
  readonly scope?: readonly string[];
}

/** What an explanation is made with: the platform for clock and fingerprints, settings if there are any. */
export interface ExplainContext {
  readonly platform: Platform;
  readonly settings?: ResolvedSignInSettings | undefined;
  /** The API that a token is held against, instead of the providers of the settings. */
  readonly api?: ApiInQuestion | undefined;
}

/** What an explained thing says, part by part, and what is to be said of it. Plain data, safe to print. */
export interface Explanation {
  readonly kind:
    | "token"
    | "callback URL"
    | "authorization URL"
    | "token answer"
    | "error answer"
    | "registration answer"
    | "challenge"
    | "credentials"
    | "error code"
    | "trace"
    | "opaque token"
    | "scopes"
    | "two addresses"
    | "key set"
    | "metadata"
    | "claims"
    | "problem";
  readonly summary: string;
  readonly parts: readonly Part[];
  readonly findings: readonly Finding[];
  /** One for each provider of the settings, when settings were given. */
  readonly judgements: readonly Judgement[];
}

export interface Part {
  readonly name: string;
  /** Secrets by fingerprint. */
  readonly value: string;
  readonly meaning: string;
}

export interface Finding {
  /** `wrong` is a mistake; `careful` is something to know. */
  readonly verdict: "wrong" | "careful";
  readonly message: string;
  /** Code in the problem catalogue, where there is one. */
  readonly code?: string;
  /** Lines to be shown as they are, below the message. */
  readonly drawing?: string;
}

/** Whether one provider of the settings would let this through. */
export interface Judgement {
  readonly provider: string;
  readonly isAccepted: boolean;
  readonly reasons: readonly string[];
  /** What cannot be known offline. */
  readonly notChecked: readonly string[];
}

export function isFine({ findings, judgements }: Explanation): boolean {
  const hasMistake = findings.some(({ verdict }) => verdict === "wrong");
  return !hasMistake && (judgements.length === 0 || judgements.some(({ isAccepted }) => isAccepted));
}

import { beginSignIn, type SignInRequest } from "../attempt/index.js";
import { revokeGrant, type Grant } from "../grant/index.js";
import { finishSignIn, type Outcome } from "../identity/index.js";
import {
  beginOAuth1SignIn,
  finishOAuth1SignIn,
  readOAuth1Token,
  type OAuth1Attempt,
  type OAuth1Provider,
} from "../oauth1/index.js";
import type { Provider, ResponseMode } from "../provider/index.js";
import { readState, unpackResponse } from "../response/index.js";
import type { Attempt } from "../attempt/index.js";

/** What the routes need of an attempt: how it is found again, and until when. The rest is sealed. */
type BegunAttempt = Pick<Attempt, "state" | "beganAt" | "expiresAt">;

/** The line of travel at one provider, whichever protocol it speaks. */
export interface Line {
  readonly scope: string;
  readonly responseMode: ResponseMode;
  /** Whether its ID tokens can say when somebody proved who they are. */
  readonly tellsWhen: boolean;
  begin(request: SignInRequest): Promise<{ readonly url: string; readonly attempt: BegunAttempt }>;
  /** The answer's parameters, taken out of the token they come in, if any. */
  unpack(received: URLSearchParams): Promise<URLSearchParams>;
  /** What the attempt is looked up by. */
  stateOf(parameters: URLSearchParams): string;
  /** @param attempt what `begin` returned, as JSON */
  finish(attempt: string, received: URLSearchParams): Promise<Outcome>;
  /** Takes the tokens back, where that is possible. */
  revoke(grant: Grant): Promise<unknown>;
}

export function openIdLine(provider: Provider): Line {
  return {
    scope: provider.scope,
    responseMode: provider.responseMode,
    tellsWhen: provider.keys !== undefined,
    begin: (request) => beginSignIn(provider, request),
    unpack: (received) => unpackResponse(provider, received),
    stateOf: readState,
    finish: (attempt, received) => finishSignIn(provider, JSON.parse(attempt) as Attempt, received),
    revoke: (grant) => revokeGrant(provider, grant),
  };
}

/** OAuth 1.0a has no scopes, nothing to ask for, and no way to take a token back. */
export function oauth1Line(provider: OAuth1Provider): Line {
  return {
    scope: "",
    responseMode: "query",
    tellsWhen: false,
    begin: ({ redirectUri }) => beginOAuth1SignIn(provider, { redirectUri }),
    unpack: (received) => Promise.resolve(received),
    stateOf: (parameters) => readOAuth1Token(provider, parameters),
    finish: (attempt, received) =>
      finishOAuth1SignIn(provider, JSON.parse(attempt) as OAuth1Attempt, received),
    revoke: () => Promise.resolve(),
  };
}

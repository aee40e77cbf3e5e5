import { beginSignIn, type SignInRequest } from "../../attempt/index.js";
import { revokeGrant, type Grant } from "../../grant/index.js";
import { finishSignIn, type Outcome } from "../../identity/index.js";
import {
  beginOAuth1SignIn,
  finishOAuth1SignIn,
  readOAuth1Token,
  type OAuth1Provider,
} from "../../oauth1/index.js";
import { wordsIn } from "../../platform/index.js";
import type { Provider, ResponseMode } from "../../provider/index.js";
import { readState, unpackResponse } from "../../response/index.js";
import type { Attempt } from "../../attempt/index.js";
import { loadPart } from "../../problem/load-part.js";

/** An attempt as the routes keep it: how it is found again, until when, and what is to be sealed, as short as can be. */
export interface BegunAttempt extends Pick<Attempt, "state" | "beganAt" | "expiresAt"> {
  readonly secrets: string;
}

/** What is known of an attempt when the browser is back: all but its state, which is sealed, so that the answer's is held against it. */
export type ReturnedAttempt = Omit<BegunAttempt, "state"> & Pick<Attempt, "redirectUri">;

/** How a trip ended, and what was asked for and not granted. */
export type TripOutcome = Outcome & { readonly notGranted?: string };

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
  /** @param onUnused as with finishSignIn */
  finish(
    attempt: ReturnedAttempt,
    received: URLSearchParams,
    onUnused: (grant: Grant) => void,
  ): Promise<TripOutcome>;
  /** Takes the tokens back, where that is possible. */
  revoke(grant: Grant): Promise<unknown>;
}

export function openIdLine(provider: Provider): Line {
  return {
    scope: provider.scope,
    responseMode: provider.responseMode,
    tellsWhen: provider.keys !== undefined,
    async begin(request) {
      const begin = provider.host
        ? (await loadPart(import("../../launch/index.js"))).beginLaunch
        : beginSignIn;
      const { url, attempt } = await begin(provider, request);
      const { state, beganAt, expiresAt } = attempt;
      const secrets = pack(provider, attempt, await launchScopes(provider));
      return { url, attempt: { state, beganAt, expiresAt, secrets } };
    },
    unpack: (received) => unpackResponse(provider, received),
    stateOf: readState,
    async finish(returned, received, onUnused) {
      const attempt = unpack(provider, returned, await launchScopes(provider));
      const outcome = await finishSignIn(provider, attempt, received, onUnused);
      if (outcome.kind !== "granted") return outcome;
      const granted = wordsIn(outcome.grant.scope);
      const notGranted = wordsIn(attempt.scope).filter((each) => !granted.includes(each));
      return { ...outcome, ...(notGranted.length > 0 && { notGranted: notGranted.join(" ") }) };
    },
    revoke: (grant) => revokeGrant(provider, grant),
  };
}

/** What differs from one attempt to the next, without names; the rest follows from the provider and the callback. */
type Packed = readonly [
  state: string,
  nonce: string,
  codeVerifier: string,
  scope?: string | number | null,
  maxAge?: number | null,
  acrValues?: readonly string[] | null,
  dpopKey?: readonly (string | undefined)[],
];

/**
 * The scope of a launch follows from the settings and from where it has begun: it is kept as that, however many there are, so
 * that an attempt stays short.
 */
async function launchScopes({ host, scope }: Provider): Promise<readonly string[]> {
  if (!host) return [];
  const { launchScope } = await loadPart(import("../../launch/index.js"));
  return [launchScope(host, scope, true), launchScope(host, scope, false)];
}

function pack(provider: Provider, attempt: Attempt, usual: readonly string[]): string {
  const { state, nonce, codeVerifier, scope, maxAge, acrValues, dpopKey } = attempt;
  const packed: Packed = [
    state,
    nonce,
    codeVerifier,
    scope === provider.scope ? null : usual.includes(scope) ? usual.indexOf(scope) : scope,
    maxAge ?? null,
    acrValues ?? null,
    ...(dpopKey ? ([[dpopKey.d, dpopKey.x, dpopKey.y]] as const) : ([] as const)),
  ];
  return JSON.stringify(packed);
}

function unpack(
  { issuer, clientId, scope: usual }: Provider,
  returned: ReturnedAttempt,
  known: readonly string[],
): Attempt {
  const { secrets, ...rest } = returned;
  const [state, nonce, codeVerifier, scope, maxAge, acrValues, key] = JSON.parse(secrets) as Packed;
  const [d = "", x = "", y = ""] = key ?? [];
  return {
    ...rest,
    state,
    issuer,
    clientId,
    nonce,
    codeVerifier,
    scope: (typeof scope === "number" ? known[scope] : scope) ?? usual,
    ...(maxAge != null && { maxAge }),
    ...(acrValues && { acrValues }),
    ...(key && { dpopKey: { kty: "EC", crv: "P-256", d, x, y } }),
  };
}

/** OAuth 1.0a has no scopes, nothing to ask for, and no way to take a token back. */
export function oauth1Line(provider: OAuth1Provider): Line {
  const { issuer, clientId } = provider;
  return {
    scope: "",
    responseMode: "query",
    tellsWhen: false,
    async begin({ redirectUri }) {
      const { url, attempt } = await beginOAuth1SignIn(provider, { redirectUri });
      const { state, beganAt, expiresAt, tokenSecret } = attempt;
      return { url, attempt: { state, beganAt, expiresAt, secrets: JSON.stringify([state, tokenSecret]) } };
    },
    unpack: (received) => Promise.resolve(received),
    stateOf: (parameters) => readOAuth1Token(provider, parameters),
    finish({ secrets, ...attempt }, received) {
      const [state, tokenSecret] = JSON.parse(secrets) as readonly [string, string];
      return finishOAuth1SignIn(provider, { ...attempt, state, issuer, clientId, tokenSecret }, received);
    },
    revoke: () => Promise.resolve(),
  };
}

import { fail } from "../problem/index.js";
import type { JsonObject, Jwk } from "../jose/index.js";
import { shapeOf } from "../trace/index.js";

/** The tokens that one code or one refresh yielded. Plain data, and secret. */
export interface Grant {
  readonly issuer: string;
  readonly clientId: string;
  /** Empty where the response type asked for none. */
  readonly accessToken: string;
  /** What was granted, separated by spaces; where the provider says nothing, what was asked for. */
  readonly scope: string;
  /** Seconds since the epoch. */
  readonly obtainedAt: number;
  /** Absent when the provider does not tell the access token's lifetime. */
  readonly expiresAt?: number;
  readonly refreshToken?: string;
  readonly idToken?: string;
  /** The key that the access token is bound to, as private JWK; absent where whoever bears the token may use it. */
  readonly dpopKey?: Jwk;
  /** What calls are signed with, where the provider speaks OAuth 1.0a (RFC 5849). */
  readonly tokenSecret?: string;
  /** In which context a host has opened the app: members of the token answer as they came (SMART App Launch 2.2). */
  readonly context?: JsonObject;
  /** All members of the answer, where deviations.identityInTokenAnswer makes them the identity. Not kept. */
  readonly answer?: JsonObject;
}

/** @throws grant.not-a-grant for what would be sent as the token `undefined` */
export function requireGrant(grant: Partial<Grant> | null | undefined): void {
  if (typeof grant?.accessToken === "string") return;
  const { grant: within } = (grant ?? {}) as { readonly grant?: unknown };
  fail("grant.not-a-grant", {
    received: shapeOf(grant),
    because: grant instanceof Promise ? "promise" : within === undefined ? undefined : "outcome",
  });
}

import type { JsonObject } from "../jose/index.js";
import { isSecureUrl } from "../platform/index.js";

/** Who the provider says it is. Issuer and subject together name one person for good; nothing else does. */
export interface Identity {
  readonly issuer: string;
  readonly subject: string;
  readonly profile: Profile;
  /** All claims: those of the ID token, completed by userinfo. */
  readonly claims: JsonObject;
}

/** The standard claims an app shows (OpenID Connect Core 1.0 section 5.1). What is absent or malformed is left out. */
export interface Profile {
  readonly name?: string;
  readonly email?: string;
  readonly emailVerified?: boolean;
  readonly picture?: string;
}

export function readProfile(claims: JsonObject): Profile {
  const { name, email, email_verified: emailVerified, picture } = claims;
  return {
    ...(isText(name) && { name }),
    ...(isText(email) && { email }),
    ...(typeof emailVerified === "boolean" && { emailVerified }),
    // Shown as an image later on: no scheme but https (or loopback http) gets that far.
    ...(isText(picture) && isSecureUrl(picture) && { picture }),
  };
}

function isText(value: unknown): value is string {
  return typeof value === "string" && value.trim() !== "";
}

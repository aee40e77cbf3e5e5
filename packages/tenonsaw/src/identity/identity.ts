import type { JsonObject } from "../jose/index.js";
import type { Profile } from "../provider/index.js";

/** Who the provider says it is. Issuer and subject together name one person for good; nothing else does. */
export interface Identity {
  /** With the tenant in it, where the provider has tenants. */
  readonly issuer: string;
  readonly subject: string;
  readonly profile: Profile;
  /** All claims: those of the ID token, completed by userinfo. */
  readonly claims: JsonObject;
  /** Whether an ID token proves that this sign-in was meant for this app, or a profile endpoint just says who it is. */
  readonly isProved: boolean;
}

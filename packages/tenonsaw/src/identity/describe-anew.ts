import { fail, quoted } from "../problem/index.js";
import type { Grant } from "../grant/index.js";
import type { JsonObject } from "../jose/index.js";
import type { Provider } from "../provider/index.js";
import { fetchUserinfo } from "./fetch-userinfo.js";
import { describeWithoutProof, withForeignClaims } from "./settle-outcome.js";

/**
 * What the provider says of a person after a refresh: the claims of the ID token that came with it, if one did, completed by
 * userinfo as at the sign-in (OpenID Connect Core 1.0 sections 5.3 and 12.2).
 *
 * @param subject whom the grant is of
 * @param idClaims of the validated ID token
 * @returns undefined where it says nothing
 * @throws identity.userinfo-refused, identity.userinfo-subject-mismatch, platform.*
 */
export async function describeAnew(
  provider: Provider,
  grant: Grant,
  subject: string,
  idClaims: JsonObject | undefined,
): Promise<JsonObject | undefined> {
  if (!provider.keys) {
    // Where the token answer says who it is, that of a refresh need not.
    if (!grant.answer && provider.metadata.userinfo_endpoint === undefined) return undefined;
    const told = await describeWithoutProof(provider, grant);
    if (told.subject === subject) return told.claims;
    return fail("identity.userinfo-subject-mismatch", {
      received: quoted(told.subject),
      expected: quoted(subject),
    });
  }
  const userinfo = await fetchUserinfo(provider, grant, subject);
  if (!userinfo && !idClaims) return undefined;
  return withForeignClaims(provider, { ...userinfo, ...idClaims });
}

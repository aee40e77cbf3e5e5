import { refreshGrant, type Grant } from "../grant/index.js";
import { compareRefreshedIdToken, isAboutIdToken } from "../identity/index.js";
import { isProblem, type ProblemError } from "../problem/index.js";
import type { Provider } from "../provider/index.js";

/** New tokens; or what says that there are none to be had any more, of these. */
type Renewal = { readonly grant: Grant } | { readonly refusal: ProblemError };

/**
 * Renews the tokens of a page. Whoever is away, busy, or says of itself what cannot be, has refused nothing: that is thrown, and
 * ends nothing.
 *
 * @throws grant.*, provider.*, platform.*
 */
export async function renewTokens(provider: Provider, before: Grant, subject: string): Promise<Renewal> {
  let renewed: Grant;
  try {
    renewed = await refreshGrant(provider, before);
  } catch (error) {
    if (isProblem(error, "grant.refresh-refused", "grant.provider-error", "grant.client-refused"))
      return { refusal: error };
    throw error;
  }
  const { idToken, ...tokens } = renewed;
  if (idToken === undefined || idToken === before.idToken) return { grant: renewed };
  try {
    const { accessToken } = tokens;
    await compareRefreshedIdToken(provider, { idToken, accessToken }, { subject, idToken: before.idToken });
    return { grant: renewed };
  } catch (error) {
    if (!isProblem(error)) throw error;
    if (isAboutIdToken(error.problem)) return { refusal: error };
    // The tokens are good all the same.
    return { grant: { ...tokens, ...(before.idToken !== undefined && { idToken: before.idToken }) } };
  }
}

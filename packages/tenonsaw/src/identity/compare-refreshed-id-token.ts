import { decodeJws, type JsonObject } from "../jose/index.js";
import { isProblem, quoted, type Problem } from "../problem/index.js";
import { requireProvider, type Provider } from "../provider/index.js";
import { check, requireFit } from "../trace/index.js";
import { validateIdToken, type IdTokenClaims } from "./validate-id-token.js";

/**
 * Validates an ID token that came with a refresh, and holds it against the sign-in that the grant is from: OpenID Connect
 * Core 1.0 section 12.2.
 *
 * @param original whom the connection is of, and the ID token of the sign-in, where it is there and can be read
 * @returns its claims
 * @throws identity.refreshed-otherwise, provider.not-open, server.unfit-argument, and as validateIdToken
 */
export async function compareRefreshedIdToken(
  provider: Provider,
  renewed: { readonly idToken: string; readonly accessToken: string },
  original: { readonly subject: string; readonly idToken?: string | undefined },
): Promise<IdTokenClaims> {
  requireProvider(provider);
  requireFit(renewed, ({ idToken }) => typeof idToken === "string", "a renewed grant with an ID token");
  requireFit(original, ({ subject }) => typeof subject === "string", "whom it was of: { subject }");
  const { idToken, accessToken } = renewed;
  const claims = await validateIdToken(provider, idToken, { accessToken });
  const before: JsonObject = { ...read(original.idToken), sub: original.subject };
  const names = ["iss", "sub", "aud", "azp", "auth_time", "nonce"] as const;
  for (const name of names) {
    const [now, then] = [claims[name], before[name]];
    // What only one of them says cannot differ: but the subject is always known, and a nonce that nobody sent is none.
    const isSame =
      now === undefined || then === undefined ? name !== "sub" : sortedText(now) === sortedText(then);
    check(provider.tools, "identity.refreshed-otherwise", isSame, () => ({
      // A nonce is a secret until it is used, and afterwards still nobody's business.
      received: name === "nonce" ? "another `nonce`" : `\`${name}\` ${quoted(now)}`,
      expected: name === "nonce" ? "the `nonce` of the sign-in, or none" : `\`${name}\` ${quoted(then)}`,
    }));
  }
  return claims;
}

/** Whether it is the ID token that is wrong, and not that the keys to read it by are not to be had: then nobody can say whose it is. */
export function isAboutIdToken({ code, station }: Pick<Problem, "code" | "station">): boolean {
  return station === "identity" || (station === "jose" && !code.startsWith("jose.key-set-"));
}

/** Nothing where it cannot be read: it was validated when it came. */
function read(idToken: string | undefined): JsonObject {
  try {
    return idToken === undefined ? {} : decodeJws(idToken).payload;
  } catch (error) {
    if (!isProblem(error)) throw error;
    return {};
  }
}

/** An audience is the same in whichever order it is listed, and alone or as a list of one. */
function sortedText(value: unknown): string {
  const list: readonly unknown[] = Array.isArray(value) ? value : [value];
  return list
    .map((each) => JSON.stringify(each))
    .sort()
    .join();
}

import { parseJsonObject, type JsonObject } from "../jose/index.js";
import { fail, isProblem, quoted } from "../problem/index.js";
import type { Grant } from "../grant/index.js";
import type { Provider } from "../provider/index.js";
import { check, sendLeg } from "../trace/index.js";

/**
 * Asks the provider about the person: OpenID Connect Core 1.0 sections 5.3.1 and 5.3.2. Returns undefined where the
 * provider has no userinfo endpoint.
 *
 * @param subject `sub` of the validated ID token; left out where the provider has no ID tokens
 * @throws identity.userinfo-refused, identity.userinfo-subject-mismatch, platform.*
 */
export async function fetchUserinfo(
  provider: Provider,
  grant: Grant,
  subject?: string,
): Promise<JsonObject | undefined> {
  const url = provider.metadata.userinfo_endpoint;
  if (url === undefined) return undefined;
  const answer = await sendLeg(provider.tools, {
    station: "identity",
    leg: "userinfo request",
    url,
    headers: { authorization: `Bearer ${grant.accessToken}` },
    timeoutSeconds: provider.timeoutSeconds,
  });
  if (answer.status !== 200) {
    const challenge = answer.headers.get("www-authenticate");
    fail("identity.userinfo-refused", {
      received: `status ${answer.status}${challenge === null ? "" : `, ${quoted(challenge)}`}`,
    });
  }
  const claims = readClaims(answer.text, answer.headers);
  // 5.3.2: `sub` is always there, and is the ID token's; otherwise nothing of the answer may be used.
  const isSame = subject === undefined || claims["sub"] === subject;
  check(provider.tools, "identity.userinfo-subject-mismatch", isSame, () => ({
    received: claims["sub"] === undefined ? "no `sub`" : quoted(claims["sub"]),
    expected: subject === undefined ? "any subject" : quoted(subject),
  }));
  return claims;
}

function readClaims(text: string, headers: Headers): JsonObject {
  try {
    return parseJsonObject(text, "userinfo");
  } catch (error) {
    if (!isProblem(error, "jose.not-json")) throw error;
    fail("identity.userinfo-refused", {
      received: headers.get("content-type") ?? "no content type",
      cause: error,
    });
  }
}

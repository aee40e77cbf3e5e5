import { parseJsonObject, type JsonObject } from "../jose/index.js";
import { fail, isProblem, quoted } from "../problem/index.js";
import type { Grant } from "../grant/index.js";
import { checkIssuer, isAudience, openToken, sendProven, type Provider } from "../provider/index.js";
import { check, requireAvailable, wordsOf, type Answer } from "../trace/index.js";

/**
 * Asks the provider about the person: OpenID Connect Core 1.0 sections 5.3.1 and 5.3.2. Returns undefined where the
 * provider has no userinfo endpoint.
 *
 * @param subject `sub` of the validated ID token; left out where the provider has no ID tokens
 * @throws provider.unavailable, identity.userinfo-refused, identity.userinfo-subject-mismatch, platform.*
 */
export async function fetchUserinfo(
  provider: Provider,
  grant: Grant,
  subject?: string,
): Promise<JsonObject | undefined> {
  const url = provider.metadata.userinfo_endpoint;
  if (url === undefined) return undefined;
  const { accessToken, dpopKey } = grant;
  const leg = {
    station: "identity",
    leg: "userinfo request",
    url,
    headers: { authorization: `${dpopKey ? "DPoP" : "Bearer"} ${accessToken}` },
    timeoutSeconds: provider.timeoutSeconds,
  };
  const answer = await sendProven(provider.tools, () => leg, dpopKey, accessToken);
  await requireAvailable(provider.tools, leg.leg, answer);
  if (answer.status !== 200) {
    const challenge = answer.headers.get("www-authenticate");
    fail("identity.userinfo-refused", {
      received: `status ${answer.status}${challenge === null ? await wordsOf(answer) : `, ${quoted(challenge)}`}`,
      because: refusedBecause(answer.status),
    });
  }
  const claims = await readClaims(provider, answer);
  // 5.3.2: `sub` is always there, and is the ID token's; otherwise nothing of the answer may be used.
  const isSame = subject === undefined || claims["sub"] === subject;
  check(provider.tools, "identity.userinfo-subject-mismatch", isSame, () => ({
    received: claims["sub"] === undefined ? "no `sub`" : quoted(claims["sub"]),
    expected: subject === undefined ? "any subject" : quoted(subject),
  }));
  return claims;
}

/** Why userinfo is refused, by the status. */
function refusedBecause(status: number): "token-refused" | "not-there" | undefined {
  if (status === 404) return "not-there";
  return status === 401 || status === 403 ? "token-refused" : undefined;
}

const isPage = (kind: string) => /html/i.test(kind);

/** Plain JSON; or signed, or encrypted, or both, where that is registered: then nothing else is taken (5.3.2). */
async function readClaims(provider: Provider, { text, headers }: Answer): Promise<JsonObject> {
  const kind = headers.get("content-type") ?? "no content type";
  const { userinfoSignedResponseAlg: signing, userinfoEncryptedResponseAlg: encryption } =
    provider.registered;
  const isJwt = /^application\/jwt\b/i.test(kind);
  const isAgreed = signing !== undefined || encryption !== undefined;
  check(provider.tools, "identity.userinfo-refused", isJwt === isAgreed, () => ({
    received: kind,
    expected: isAgreed ? "application/jwt, as registered" : "application/json",
    because: isPage(kind) ? ("page" as const) : ("form" as const),
  }));
  if (!isJwt) return parseClaims(text, kind);
  const algorithms = signing === undefined ? provider.signatureAlgorithms : [signing];
  const { payload } = await openToken(provider, text, algorithms, encryption);
  // 5.3.2: a signed answer names who made it and for whom.
  const { iss, aud } = payload;
  if (iss !== undefined)
    checkIssuer(provider.tools, "identity.issuer-mismatch", provider, typeof iss === "string" ? iss : "");

  const isForUs = aud === undefined || isAudience(aud, provider.clientId);
  check(provider.tools, "identity.audience-mismatch", isForUs, () => ({
    received: aud === undefined ? "no `aud`" : quoted(aud),
    expected: quoted(provider.clientId),
  }));
  return payload;
}

/**
 * A JSON answer about a person.
 *
 * @param kind its content type, for the problem
 * @throws identity.userinfo-refused
 */
export function parseClaims(text: string, kind: string): JsonObject {
  try {
    return parseJsonObject(text, "userinfo");
  } catch (error) {
    if (!isProblem(error, "jose.not-json")) throw error;
    fail("identity.userinfo-refused", {
      received: kind,
      because: isPage(kind) ? "page" : undefined,
      cause: error,
    });
  }
}

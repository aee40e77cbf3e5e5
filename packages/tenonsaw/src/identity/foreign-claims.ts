import { isUrl } from "../platform/index.js";
import {
  decodeJws,
  isKeyPairAlgorithm,
  KeySet,
  signatureAlgorithms,
  verifyJws,
  type JsonObject,
} from "../jose/index.js";
import { fail, isProblem, quoted } from "../problem/index.js";
import { clockToleranceSeconds, fetchMetadata, isAudience, type Provider } from "../provider/index.js";
import { check, note, sendLeg, wordsOf } from "../trace/index.js";

/**
 * Claims that others vouch for: OpenID Connect Core 1.0 section 5.6.2. Those of issuers that the settings trust are read,
 * aggregated and distributed alike; all others are left out. A sign-in never fails by them: what cannot be read is
 * traced. What the provider says itself is not replaced.
 */
export async function readForeignClaims(provider: Provider, claims: JsonObject): Promise<JsonObject> {
  const { _claim_names: names, _claim_sources: sources, ...own } = claims;
  const wanted = Object.entries(isObject(names) ? names : {}).filter(
    ([name]) => !(name in own) && !isReserved(name),
  );
  const read: Record<string, unknown> = {};
  for (const source of new Set(wanted.map(([, from]) => from))) {
    const listed = wanted.filter(([, from]) => from === source).map(([name]) => name);
    const found = await readSource(provider, isObject(sources) ? sources[String(source)] : undefined, listed);
    for (const name of listed) if (found && Object.hasOwn(found, name)) read[name] = found[name];
  }
  return { ...own, ...read };
}

/** What no other issuer has a say in. */
function isReserved(name: string): boolean {
  return ["sub", "iss", "aud", "exp", "iat", "nonce", "azp", "acr", "auth_time", "__proto__"].includes(name);
}

async function readSource(
  provider: Provider,
  source: unknown,
  listed: readonly string[],
): Promise<JsonObject | undefined> {
  const claims = listed.map((name) => quoted(name, 40)).join(", ");
  try {
    return await openSource(provider, source);
  } catch (error) {
    if (!isProblem(error)) throw error;
    const { code, received = "" } = error.problem;
    note(provider.tools, "identity", "claims of another issuer left out", {
      claims,
      problem: code,
      received,
    });
    return undefined;
  }
}

async function openSource(provider: Provider, source: unknown): Promise<JsonObject> {
  const { JWT: aggregated, endpoint, access_token: accessToken } = isObject(source) ? source : {};
  const token =
    typeof aggregated === "string" ? aggregated : await fetchDistributed(provider, endpoint, accessToken);
  const admitted = signatureAlgorithms.filter(isKeyPairAlgorithm);
  const { tools, clientId } = provider;
  const iss = issuerOf(token);
  check(tools, "identity.claims-issuer-untrusted", provider.trustedClaimsIssuers.includes(iss), () => ({
    received: quoted(iss),
  }));
  const keys = await keySetOf(provider, iss);
  const { payload } = await verifyJws(tools, token, admitted, (header, algorithm) =>
    keys.find(header, algorithm),
  );
  const { aud, exp, nbf } = payload;
  const now = tools.platform.now();
  const isFor = aud === undefined || isAudience(aud, clientId);
  check(tools, "identity.audience-mismatch", isFor, () => ({ received: quoted(aud) }));
  const isOver = exp !== undefined && !(typeof exp === "number" && now < exp + clockToleranceSeconds);
  check(tools, "identity.expired", !isOver, () => ({ received: quoted(exp) }));
  const isEarly = nbf !== undefined && !(typeof nbf === "number" && nbf <= now + clockToleranceSeconds);
  check(tools, "identity.not-yet-valid", !isEarly, () => ({ received: quoted(nbf) }));
  return payload;
}

/** From a trusted issuer's own origin and nowhere else: the address is the provider's word alone. */
async function fetchDistributed(
  provider: Provider,
  endpoint: unknown,
  accessToken: unknown,
): Promise<string> {
  const { tools, timeoutSeconds, trustedClaimsIssuers } = provider;
  const url = typeof endpoint === "string" && isUrl(endpoint) ? endpoint : "";
  const isTrusted = trustedClaimsIssuers.some(
    (each) => url !== "" && new URL(each).origin === new URL(url).origin,
  );
  check(tools, "identity.claims-issuer-untrusted", isTrusted, () => ({ received: quoted(endpoint) }));
  const answer = await sendLeg(tools, {
    station: "identity",
    leg: "distributed claims request",
    url,
    headers: {
      accept: "application/jwt",
      ...(typeof accessToken === "string" && { authorization: `Bearer ${accessToken}` }),
    },
    timeoutSeconds,
  });
  if (answer.status !== 200)
    fail("identity.userinfo-refused", { received: `status ${answer.status}${await wordsOf(answer)}` });
  return answer.text.trim();
}

function issuerOf(token: string): string {
  const { iss } = decodeJws(token).payload;
  return typeof iss === "string" ? iss : "";
}

const keySets = new WeakMap<Provider, Map<string, Promise<KeySet>>>();

/** The keys of a trusted issuer, found as a provider's are. */
function keySetOf(provider: Provider, issuer: string): Promise<KeySet> {
  const known = keySets.get(provider) ?? new Map<string, Promise<KeySet>>();
  keySets.set(provider, known);
  const found = known.get(issuer) ?? openKeySet(provider, issuer);
  known.set(issuer, found);
  found.catch(() => known.delete(issuer));
  return found;
}

async function openKeySet({ tools, timeoutSeconds }: Provider, issuer: string): Promise<KeySet> {
  const metadata = await fetchMetadata(tools, {
    issuer,
    discovery: "openid",
    deviations: {},
    timeoutSeconds,
  });
  check(tools, "provider.issuer-mismatch", metadata["issuer"] === issuer, () => ({
    received: quoted(metadata["issuer"]),
    expected: quoted(issuer),
  }));
  const keys = metadata["jwks_uri"];
  if (typeof keys !== "string")
    fail("provider.metadata-refused", { received: `${quoted(issuer)} without jwks_uri` });
  return new KeySet(tools, { keys, timeoutSeconds });
}

function isObject(value: unknown): value is JsonObject {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

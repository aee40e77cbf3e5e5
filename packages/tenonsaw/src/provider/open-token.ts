import { verifyJws, type DecodedJws, type JwsHeader, type KeyManagement } from "../jose/index.js";
import type { SignatureAlgorithm } from "../platform/index.js";
import { fail, quoted, type ProblemCode } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import { check, type Tools } from "../trace/index.js";
import type { Provider } from "./settle-provider.js";

/**
 * Opens a token that the provider made for this app: decrypts it where that was agreed, and verifies its signature.
 * Where encryption was agreed, nothing else is taken (OpenID Connect Core 1.0 section 3.1.3.7 step 1, the strict
 * reading); where it was not, nothing encrypted is.
 *
 * @param signing the algorithms that are admitted
 * @throws jose.*
 */
export async function openToken(
  provider: Provider,
  token: string,
  signing: readonly SignatureAlgorithm[],
  encryption?: KeyManagement,
): Promise<DecodedJws> {
  const { tools, keys, macKey } = provider;
  if (!keys) fail("jose.key-unknown", { received: "a provider whose settings say that it has no keys" });
  return verifyJws(
    tools,
    encryption === undefined
      ? token
      : await (await loadPart(import("./decrypt-nested.js"))).decryptNested(provider, token, encryption),
    signing,
    (header, algorithm) => macKey ?? keys.find(header, algorithm),
  );
}

/** Whether a token is for this client: `aud` is its name, or a list with its name (RFC 7519 section 4.1.3). */
export function isAudience(aud: unknown, clientId: string): boolean {
  return Array.isArray(aud) ? aud.includes(clientId) : aud === clientId;
}

/** Who else a token is for, whom the settings do not trust with it. */
export function untrustedAudiences(
  aud: unknown,
  {
    clientId,
    trustedAudiences = [],
  }: { readonly clientId: string; readonly trustedAudiences?: readonly string[] },
): readonly unknown[] {
  const audiences: readonly unknown[] = Array.isArray(aud) ? aud : [aud];
  return audiences.filter((each) => each !== clientId && !trustedAudiences.some((known) => known === each));
}

/**
 * What kind of token it says it is: RFC 7515 section 4.1.9, by which `application/` may stand before it or not, in
 * whichever case; RFC 8725 section 3.11. One that does not say passes.
 */
export function checkKind(
  tools: Tools,
  code: ProblemCode,
  { typ }: JwsHeader,
  admitted: readonly string[],
): void {
  const kind = typ?.toLowerCase().replace(/^application\//, "");
  check(tools, code, kind === undefined || admitted.includes(kind), () => ({
    received: typ === undefined ? "no `typ`" : `\`typ\` ${quoted(typ)}`,
    expected: `\`typ\` ${admitted.join(" or ")}, or none`,
  }));
}

/** How far the two clocks may differ, in seconds. */
export const clockToleranceSeconds = 60;

/** Whether something was so many seconds ago at the most. What is of the future is not, but for what clocks differ by. */
export function isWithin(seconds: number, age: number): boolean {
  return age >= -clockToleranceSeconds && age <= seconds;
}

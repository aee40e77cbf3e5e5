import { parseJsonObject } from "../jose/index.js";
import { fail, isProblem, quoted } from "../problem/index.js";
import { check, sendLeg, type Tools } from "../trace/index.js";
import { parseMetadata, type ProviderMetadata } from "./metadata.js";

/**
 * Fetches and proves an issuer's metadata: OpenID Connect Discovery 1.0 section 4.
 *
 * @throws provider.metadata-not-found, provider.metadata-refused, provider.issuer-mismatch, platform.not-json, and
 *   what sendLeg throws
 */
export async function discover(
  tools: Tools,
  issuer: string,
  timeoutSeconds: number,
): Promise<ProviderMetadata> {
  // 4: a slash at the end of the issuer is left out before the path is added.
  const url = `${issuer.replace(/\/$/, "")}/.well-known/openid-configuration`;
  const answer = await sendLeg(tools, { station: "provider", leg: "metadata request", url, timeoutSeconds });
  // 4.2: success is status 200 with a JSON object.
  if (answer.status !== 200) {
    fail("provider.metadata-not-found", { received: `status ${answer.status} from ${url}` });
  }
  const metadata = parseMetadata(readJson(answer.text, answer.headers, url));
  // 4.3: the issuer is the one that was asked, compared as text: no case folding, no slash forgiven.
  check(tools, "provider.issuer-mismatch", metadata.issuer === issuer, () => ({
    received: quoted(metadata.issuer),
    expected: quoted(issuer),
  }));
  return metadata;
}

function readJson(text: string, headers: Headers, url: string): unknown {
  try {
    return parseJsonObject(text, "metadata");
  } catch (error) {
    if (!isProblem(error, "jose.not-json")) throw error;
    fail("platform.not-json", {
      received: `metadata request: ${headers.get("content-type") ?? "no content type"} from ${url}`,
      cause: error,
    });
  }
}

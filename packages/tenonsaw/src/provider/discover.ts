import { baseOf } from "./is-host.js";
import type { ResolvedProviderSettings } from "./settings-types.js";
import { parseJsonObject, type JsonObject } from "../jose/index.js";
import { fail, isProblem, type CauseOf } from "../problem/index.js";
import { describeBody, requireAvailable, sendLeg, wordsOf, type Tools } from "../trace/index.js";

/** So long what an issuer says of itself counts without asking again. */
export const metadataFreshSeconds = 3600;

/**
 * Where an issuer's metadata is: OpenID Connect Discovery 1.0 section 4 puts the well-known path behind the issuer's,
 * RFC 8414 section 3.1 in front of it. In both a slash at the issuer's end is left out.
 */
export function metadataUrl({
  issuer,
  discovery,
  deviations,
}: Pick<ResolvedProviderSettings, "issuer" | "discovery" | "deviations">): string {
  if (deviations.metadataUrl !== undefined) return deviations.metadataUrl;
  const bare = baseOf({ issuer });
  // SMART App Launch 2.2, Conformance: behind the base URL of the FHIR server.
  if (discovery === "smart") return `${bare}/.well-known/smart-configuration`;
  if (discovery === "openid") return `${bare}/.well-known/openid-configuration`;
  const { origin } = new URL(bare);
  return `${origin}/.well-known/oauth-authorization-server${bare.slice(origin.length)}`;
}

/**
 * Fetches an issuer's metadata and believes nothing of it yet.
 *
 * @throws provider.unavailable, provider.metadata-not-found, platform.not-json, and what sendLeg throws
 */
export async function fetchMetadata(
  tools: Tools,
  settings: Where & Pick<ResolvedProviderSettings, "timeoutSeconds">,
): Promise<JsonObject> {
  const url = metadataUrl(settings);
  const { timeoutSeconds } = settings;
  const answer = await sendLeg(tools, { station: "provider", leg: "metadata request", url, timeoutSeconds });
  await requireAvailable(tools, "metadata request", answer);
  // Discovery 4.2: success is status 200 with a JSON object.
  if (answer.status !== 200)
    fail("provider.metadata-not-found", {
      received: `status ${answer.status} from ${url}${await wordsOf(answer)}`,
      because:
        answer.status === 404
          ? notFound(settings)
          : [401, 403].includes(answer.status)
            ? "not-allowed"
            : undefined,
    });
  try {
    return parseJsonObject(answer.text, "metadata");
  } catch (error) {
    if (!isProblem(error, "jose.not-json")) throw error;
    const { kind, because } = describeBody(answer);
    fail("platform.not-json", { received: `metadata request: ${kind} from ${url}`, because, cause: error });
  }
}

type Where = Pick<ResolvedProviderSettings, "issuer" | "discovery" | "deviations">;

/** Which of the settings leads to where nothing is. */
function notFound({ issuer, discovery, deviations }: Where): CauseOf<"provider.metadata-not-found"> {
  if (deviations.metadataUrl !== undefined) return "metadata-url";
  if (issuer.includes("/.well-known/")) return "metadata-address";
  if (discovery === "smart") return "no-smart-configuration";
  return discovery === "oauth" ? "no-oauth-metadata" : "no-such-address";
}

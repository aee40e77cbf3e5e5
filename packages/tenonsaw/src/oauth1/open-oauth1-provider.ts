import type { OAuth1Settings, ResolvedOAuth1Settings } from "./settings-types.js";
import type { Jwk } from "../jose/index.js";
import type { Secret } from "../platform/index.js";
import { fail } from "../problem/index.js";
import { parseSettings, readClientKeys, resolveSecret } from "../provider/index.js";
import { createTools, shapeOf, type Tools } from "../trace/index.js";
import { oauth1Settings } from "./settings.js";

/** A provider of OAuth 1.0a, ready. */
export interface OAuth1Provider extends Omit<
  ResolvedOAuth1Settings,
  "title" | "clientSecret" | "clientKeys"
> {
  readonly clientSecret?: Secret;
  /** The app's own RSA key, with its private part. */
  readonly signingKey?: Jwk;
  readonly tools: Tools;
}

/** @throws provider.not-open where something else stands in a provider's place, such as one of OpenID Connect */
export function requireOAuth1(provider: unknown): void {
  const { tools, temporaryCredentialsEndpoint } = (provider ?? {}) as Partial<OAuth1Provider>;
  if (tools === undefined || temporaryCredentialsEndpoint === undefined)
    fail("provider.not-open", {
      received: shapeOf(provider),
      expected: "what openOAuth1Provider gives",
      here: "Hand over the provider first of all; one of another protocol has functions of its own.",
    });
}

/**
 * Reads settings; nothing is fetched, as there is no metadata.
 *
 * @throws provider.settings-refused, provider.secret-missing, provider.client-key-refused
 */
export function openOAuth1Provider(settings: OAuth1Settings, parts: Partial<Tools> = {}): OAuth1Provider {
  const tools = createTools(parts);
  const { title: _title, clientSecret, clientKeys, ...resolved } = parseSettings(oauth1Settings, settings);
  const keys = clientKeys === undefined ? [] : readClientKeys(resolveSecret(tools, clientKeys, "clientKeys"));
  const signingKey = keys.find(({ kty }) => kty === "RSA");
  if (resolved.signatureMethod === "RSA-SHA1" && !signingKey) {
    fail("provider.client-key-refused", {
      received: "clientKeys without an RSA key",
      expected: "an RSA key",
    });
  }
  return {
    ...resolved,
    ...(clientSecret !== undefined && { clientSecret: resolveSecret(tools, clientSecret, "clientSecret") }),
    ...(signingKey && { signingKey }),
    tools,
  };
}

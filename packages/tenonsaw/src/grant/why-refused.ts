import type { JsonObject } from "../jose/index.js";
import type { CauseOf } from "../problem/index.js";
import { formEncode, type Provider } from "../provider/index.js";

/** Which of its causes an error has that has no problem of its own. */
export function errorBecause(
  error: string | undefined,
  status: number,
  body: JsonObject,
): CauseOf<"grant.provider-error"> | undefined {
  if (body["access_token"] !== undefined) return "other-status";
  if (error === undefined) return [400, 401, 403].includes(status) ? "no-code" : "not-there";
  if (error === "unauthorized_client" || error === "unsupported_grant_type") return "grant-type";
  return error === "invalid_scope" ? "scope" : undefined;
}

/** What about the way this client proves itself is likely to be at fault, where something is. */
export function clientBecause({
  clientAuthentication,
  clientId,
  clientSecret,
  deviations,
}: Provider): CauseOf<"grant.client-refused"> | undefined {
  if (clientAuthentication.includes("tls_client_auth")) return "certificate";
  if (clientAuthentication === "none" && clientSecret) return "unsent";
  if (clientAuthentication.endsWith("_jwt") && !clientSecret) return "assertion";
  const secret = clientSecret?.reveal();
  if (oddityOf(clientId) !== undefined) return "client-id";
  if (secret === undefined) return "none";
  const odd = oddityOf(secret);
  if (odd !== undefined) return odd;
  const isEncoded = formEncode(clientId) !== clientId || formEncode(secret) !== secret;
  const isBasic = clientAuthentication === "client_secret_basic" && deviations.basicNotEncoded !== true;
  return isBasic && isEncoded ? "encoding" : undefined;
}

/** What a copied ID or secret has that is none of its own. */
function oddityOf(text: string): "white-space" | "quotes" | "variable" | "placeholder" | undefined {
  if (text !== text.trim()) return "white-space";
  if (/^(["'`]).*\1$/.test(text)) return "quotes";
  if (/^(\$\{.*\}|\$\w+|%\w+%|\{\{.*\}\})$/.test(text)) return "variable";
  const isPlaceholder =
    /^<.*>$|^(x+|\*+|\.+)$|^(your|my|the|change|replace|insert)[ _-]|^(secret|todo|changeme|client[ _-]?(secret|id))$/i;
  return isPlaceholder.test(text) ? "placeholder" : undefined;
}

import type { JsonObject } from "../jose/index.js";
import type { CauseOf } from "../problem/index.js";
import { formEncode } from "./authenticate-client.js";
import { strayOf } from "./bare-text.js";
import type { Provider } from "./settle-provider.js";

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
  if (isNoId(clientId)) return "client-id";
  if (secret === undefined) return "none";
  const stray = strayOf(secret) ?? (isNoId(secret) ? "placeholder" : undefined);
  if (stray !== undefined) return stray;
  const isEncoded = formEncode(clientId) !== clientId || formEncode(secret) !== secret;
  const isBasic = clientAuthentication === "client_secret_basic" && deviations.basicNotEncoded !== true;
  return isBasic && isEncoded ? "encoding" : undefined;
}

/** The same, of an API that asks about tokens (RFC 7662 section 2.3). */
export function introspectionBecause(
  client: Provider,
  { status }: { readonly status: number },
  { error }: JsonObject,
): CauseOf<"guard.introspection-refused"> | undefined {
  if (isNowhere(status)) return "not-there";
  return error === "invalid_client" || (error === undefined && status === 401)
    ? clientBecause(client)
    : undefined;
}

/** By its status, an answer of what is no such endpoint. */
export const isNowhere = (status: number): boolean => [404, 405, 410, 501].includes(status);

/** What an example has where an ID or a secret belongs. No more than that: real ones begin with `my-` and the like. */
const isNoId = (text: string) =>
  /^(x+|((my|the)[ _-])?(client|app)?[ _-]?(id|secret)|(change|replace|insert)[ _-]?(me|this|here|it))$/i.test(
    text,
  );

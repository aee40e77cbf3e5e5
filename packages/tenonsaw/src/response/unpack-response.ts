import type { Provider } from "../provider/index.js";
import { loadPart } from "../problem/load-part.js";

/**
 * The parameters of an authorization response, as they came or out of the JWT that carries them.
 *
 * @param parameters of the query, the fragment or the form
 * @throws response.not-signed, response.parameter-duplicated, response.jwt-refused, response.issuer-mismatch, jose.*
 */
export async function unpackResponse(
  provider: Provider,
  parameters: URLSearchParams,
): Promise<URLSearchParams> {
  if (!provider.responseMode.endsWith(".jwt")) return parameters;
  return (await loadPart(import("./packed-response.js"))).openPackedResponse(provider, parameters);
}

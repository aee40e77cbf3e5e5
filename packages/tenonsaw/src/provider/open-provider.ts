import type { ProviderSettings } from "./settings-types.js";
import { loadPart } from "../problem/load-part.js";
import { createTools, type Tools } from "../trace/index.js";
import type { Provider } from "./settle-provider.js";

/**
 * Reads settings, fetches the issuer's metadata and settles what both sides speak.
 *
 * @throws provider.settings-refused, provider.secret-missing, provider.metadata-not-found,
 *   provider.metadata-refused, provider.issuer-mismatch, platform.*
 */
export async function openProvider(
  settings: ProviderSettings,
  parts: Partial<Tools> = {},
): Promise<Provider> {
  const { settleProvider } = await loadPart(import("./settle-provider.js"));
  return settleProvider(createTools(parts), settings);
}

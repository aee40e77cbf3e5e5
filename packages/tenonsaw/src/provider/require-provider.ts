import { fail } from "../problem/index.js";
import { shapeOf } from "../trace/index.js";
import type { Provider } from "./settle-provider.js";

/** @throws provider.not-open where what openProvider gives was not waited for, or something else stands in its place */
export function requireProvider(provider: unknown): void {
  if ((provider as Partial<Provider> | null | undefined)?.tools === undefined)
    fail("provider.not-open", { received: shapeOf(provider) });
}

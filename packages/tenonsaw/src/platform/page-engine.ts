import type { CryptoEngine } from "./crypto-engine.js";
import { createWebEngine } from "./web-engine.js";

/** In the place of host-engine.ts on a page, where there is nothing but Web Crypto. */
export function createHostEngine(): CryptoEngine {
  return createWebEngine(crypto.subtle);
}

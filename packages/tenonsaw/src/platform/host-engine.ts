import type * as NodeCrypto from "node:crypto";
import type { CryptoEngine } from "./crypto-engine.js";
import { host } from "./host.js";
import { createNodeEngine } from "./node-engine.js";
import { createWebEngine } from "./web-engine.js";

/**
 * In Node every operation runs in node:crypto. `npm run bench:engine` measures both forms, operation by operation, on
 * Node 20 and on current Node (bench/engine.json): on both, node:crypto takes clearly less processor time for all but
 * RSA signatures, where the two are alike. Elsewhere there is Web Crypto.
 */
export function createHostEngine(): CryptoEngine {
  const builtin = host().getBuiltinModule?.("node:crypto") as typeof NodeCrypto | undefined;
  return builtin ? createNodeEngine(builtin) : createWebEngine(crypto.subtle);
}

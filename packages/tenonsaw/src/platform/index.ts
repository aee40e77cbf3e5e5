export type {
  Bytes,
  CryptoEngine,
  Curve,
  EngineKey,
  Eventually,
  Hash,
  SignatureAlgorithm,
} from "./crypto-engine.js";
export {
  base64urlFromBytes,
  binaryFromBase64url,
  bytesFromBase64url,
  bytesFromBinary,
  joinBytes,
} from "./bytes.js";
export { isLoopback, isSecureUrl, isUrl, parseUrl } from "./loopback.js";
export { createNodeEngine } from "./node-engine.js";
export { createPlatform, letGo, readingSeconds, usualFetch, type Platform } from "./platform.js";
export { conceal, Secret } from "./secret.js";
export { createWebEngine } from "./web-engine.js";
export { limits } from "./limits.js";
export { endAfter, isInstant } from "./instant.js";
export { onceKnown } from "./once-known.js";
export { isPlainPath } from "./plain-path.js";
export { wordsIn } from "./words-in.js";

export {
  fapi2Algorithms,
  hashOf,
  isKeyPairAlgorithm,
  isSignatureAlgorithm,
  macBytes,
  signatureAlgorithms,
  signatureBytes,
} from "./algorithms.js";
export { decodeBase64url, encodeBase64url } from "./base64url.js";
export { freezeDeeply, parseJsonObject, type JsonObject } from "./json.js";
export { decryptJwe, encryptJwe, type Admitted } from "./jwe.js";
export {
  contentEncryptions,
  isKeyManagement,
  keyManagements,
  type ContentEncryption,
  type JweHeader,
  type JweKey,
  type KeyManagement,
} from "./jwe-names.js";
export { prepareKey, publicPart, thumbprint, type Jwk } from "./jwk.js";
export {
  decodeJws,
  signJws,
  verifyDecoded,
  verifyJws,
  type DecodedJws,
  type JwsHeader,
  type KeyFinder,
} from "./jws.js";
export { KeySet, type KeySetSource } from "./key-set.js";
export { createTools, type Tools } from "../trace/index.js";
export { VerifiedTokens, type TokenKeys } from "./verified-tokens.js";

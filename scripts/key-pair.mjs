// New keys. As text at first: in Node 20 what makes a pair and the export of it take one lock, and where memory is collected
// between them, it waits for itself for ever.
import { createPrivateKey, createPublicKey, generateKeyPairSync } from "node:crypto";

export function newKeyPair(type, options = {}) {
  const { privateKey, publicKey } = generateKeyPairSync(type, {
    ...options,
    publicKeyEncoding: { type: "spki", format: "pem" },
    privateKeyEncoding: { type: "pkcs8", format: "pem" },
  });
  return { privateKey: createPrivateKey(privateKey), publicKey: createPublicKey(publicKey) };
}

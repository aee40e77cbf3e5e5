import { createWebEngine } from "../platform/web-engine.js";
import type { CryptoEngine } from "../platform/index.js";
import type { Box } from "./box.js";

interface BoundKey {
  readonly jwk: JsonWebKey;
  readonly handle: CryptoKey;
}

/** Stands in a private JWK where its private part is a handle that nobody can read: 32 bytes of nothing. */
const standIn = "A".repeat(43);

/**
 * Web Crypto whose keys for proofs of possession (RFC 9449) never leave it: one for this browser, kept as a handle that cannot
 * be exported. Other keys are as ever.
 *
 * @param lock does what it is given in one tab at a time
 */
export function createBoundEngine(
  subtle: SubtleCrypto,
  box: Box,
  lock: <Result>(work: () => Promise<Result>) => Promise<Result>,
): CryptoEngine {
  const web = createWebEngine(subtle);
  const make = async (): Promise<BoundKey> => {
    const known = (await box.get("key")) as BoundKey | undefined;
    if (known) return known;
    const algorithm = { name: "ECDSA", namedCurve: "P-256" };
    const { privateKey: handle, publicKey } = await subtle.generateKey(algorithm, false, ["sign", "verify"]);
    const made = { jwk: await subtle.exportKey("jwk", publicKey), handle };
    await box.put("key", made);
    return made;
  };
  return {
    ...web,
    async generateKey() {
      const { kty = "", crv = "", x = "", y = "" } = (await lock(make)).jwk;
      return { kty, crv, x, y, d: standIn };
    },
    async importKey(jwk, algorithm, use) {
      if (use !== "sign" || jwk.d !== standIn) return web.importKey(jwk, algorithm, use);
      const known = (await box.get("key")) as BoundKey | undefined;
      // A key that is gone is as good as a wrong one: what it bound cannot be used any more.
      if (known?.jwk.x !== jwk.x) throw new DOMException("The key is gone.", "NotFoundError");
      return { algorithm, use, engine: web, handle: known?.handle };
    },
  };
}

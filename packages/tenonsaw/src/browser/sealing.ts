import type { Box } from "./box.js";

interface Sealed {
  readonly iv: Uint8Array<ArrayBuffer>;
  readonly data: ArrayBuffer;
}

/** A box whose contents are sealed with a key that nobody can read: what is found in it is no token. */
export interface SealedBox {
  readonly box: Box;
  get(name: string): Promise<unknown>;
  put(name: string, value: unknown): Promise<void>;
  /** Puts `value` in the place of what `get` has given out, if that is there still; false where it is not. */
  renew(name: string, before: unknown, value: unknown): Promise<boolean>;
}

/** AES-256-GCM; bound to the name, so that nothing stands for anything else. */
export function createSealedBox(
  subtle: SubtleCrypto,
  box: Box,
  lock: <Result>(work: () => Promise<Result>) => Promise<Result>,
): SealedBox {
  const make = async () => {
    const known = (await box.get("sealing")) as CryptoKey | undefined;
    if (known) return known;
    const key = await subtle.generateKey({ name: "AES-GCM", length: 256 }, false, ["encrypt", "decrypt"]);
    await box.put("sealing", key);
    return key;
  };
  const parameters = (name: string, iv: Uint8Array<ArrayBuffer>) => ({
    name: "AES-GCM",
    iv,
    additionalData: new TextEncoder().encode(name),
  });
  /** What was opened last, by its name: the same object as long as the box has the same. */
  const opened = new Map<string, { readonly iv: string; readonly value: unknown }>();
  const seal = async (name: string, value: unknown): Promise<Sealed> => {
    const key = await lock(make);
    const iv = crypto.getRandomValues(new Uint8Array(12));
    const plain = new TextEncoder().encode(JSON.stringify(value));
    return { iv, data: await subtle.encrypt(parameters(name, iv), key, plain) };
  };
  return {
    box,
    put: async (name, value) => box.put(name, await seal(name, value)),
    async renew(name, before, value) {
      const known = opened.get(name);
      if (known?.value !== before) return false;
      const fits = (found: unknown) => String((found as Sealed | undefined)?.iv) === known?.iv;
      return fits(await box.replace(name, await seal(name, value), fits));
    },
    async get(name) {
      const [key, sealed] = (await Promise.all([box.get("sealing"), box.get(name)])) as [
        CryptoKey | undefined,
        Sealed | undefined,
      ];
      if (!key || !sealed) return undefined;
      const iv = String(sealed.iv);
      const known = opened.get(name);
      if (known?.iv === iv) return known.value;
      try {
        const plain = await subtle.decrypt(parameters(name, sealed.iv), key, sealed.data);
        const value: unknown = JSON.parse(new TextDecoder().decode(plain));
        opened.set(name, { iv, value });
        return value;
      } catch {
        // Another key, or not what was put there: as if there were nothing.
        return undefined;
      }
    },
  };
}

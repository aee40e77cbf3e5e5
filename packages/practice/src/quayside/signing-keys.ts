import { createPrivateKey, generateKeyPair } from "node:crypto";
import { promisify } from "node:util";
import { createTools, prepareKey, publicPart, signJws, thumbprint, verifyJws, type Jwk } from "tenonsaw/jose";

export const signingAlgorithms = ["RS256", "PS256", "ES256", "EdDSA"] as const;
export type SigningAlgorithm = (typeof signingAlgorithms)[number];

/** The provider's keys: one that signs, and all that are published. */
export interface SigningKeys {
  readonly algorithm: SigningAlgorithm;
  published(): readonly Jwk[];
  sign(payload: Readonly<Record<string, unknown>>, typ: string, header?: { kid?: string }): Promise<string>;
  /** The same with a key that is published nowhere. */
  signWithStranger(payload: Readonly<Record<string, unknown>>, kid?: string): Promise<string>;
  /** The payload of a token signed here, or undefined. */
  read(token: string): Promise<Readonly<Record<string, unknown>> | undefined>;
  /** A new key signs from now on; the one before it stays published, earlier ones go. */
  rotate(): Promise<void>;
}

const tools = createTools();

export async function createSigningKeys(algorithm: SigningAlgorithm): Promise<SigningKeys> {
  let keys = [await generate(algorithm)];
  return {
    algorithm,
    published: () => keys.map(publicPart),
    async signWithStranger(payload, kid = keys[0]?.kid ?? "") {
      const key = await prepareKey(tools, await generate(algorithm), algorithm, "sign");
      return signJws(tools, key, payload, { kid, typ: "JWT" });
    },
    async sign(payload, typ, header = {}) {
      const [current] = keys;
      if (!current) throw new Error("no signing key");
      const key = await prepareKey(tools, current, algorithm, "sign");
      return signJws(tools, key, payload, { kid: current.kid ?? "", typ, ...header });
    },
    async read(token) {
      try {
        const { payload } = await verifyJws(tools, token, [algorithm], ({ kid }) => {
          const found = keys.find((key) => key.kid === kid);
          if (!found) throw new Error("not a key of this provider");
          return prepareKey(tools, found, algorithm, "verify");
        });
        return payload;
      } catch {
        return undefined;
      }
    },
    async rotate() {
      keys = [await generate(algorithm), ...keys.slice(0, 1)];
    },
  };
}

async function generate(algorithm: SigningAlgorithm): Promise<Jwk> {
  const pem = await generatePair(algorithm);
  const jwk = createPrivateKey(pem.privateKey).export({ format: "jwk" }) as unknown as Jwk;
  return { ...jwk, kid: (await thumbprint(tools, jwk)).slice(0, 12), use: "sig", alg: algorithm };
}

/** As text: in Node 20 the export of a key that has just been made can wait for itself, for ever. */
function generatePair(algorithm: SigningAlgorithm) {
  const make = promisify(generateKeyPair);
  const publicKeyEncoding = { type: "spki", format: "pem" } as const;
  const privateKeyEncoding = { type: "pkcs8", format: "pem" } as const;
  if (algorithm === "ES256")
    return make("ec", { namedCurve: "P-256", publicKeyEncoding, privateKeyEncoding });
  if (algorithm === "EdDSA") return make("ed25519", { publicKeyEncoding, privateKeyEncoding });
  return make("rsa", { modulusLength: 2048, publicKeyEncoding, privateKeyEncoding });
}

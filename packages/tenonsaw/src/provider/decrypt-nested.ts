import {
  contentEncryptions,
  decodeJws,
  decryptJwe,
  encodeBase64url,
  type JsonObject,
  type JweKey,
  type KeyManagement,
} from "../jose/index.js";
import type { Hash } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import type { Provider } from "./settle-provider.js";

/** The signed token inside an encrypted one: RFC 7519 section 7.2 steps 7 and 8. */
export async function decryptNested(
  provider: Provider,
  token: string,
  encryption: KeyManagement,
): Promise<string> {
  if (token.split(".").length === 3)
    fail("jose.not-encrypted", { received: `a signed token with alg ${algOf(token)}` });
  const admitted = { alg: [encryption], enc: contentEncryptions };
  const { header, plaintext } = await decryptJwe(provider.tools, token, admitted, (head) =>
    findKey(provider, head),
  );
  const { cty } = header;
  if (cty !== undefined && (typeof cty !== "string" || cty.toUpperCase() !== "JWT")) {
    fail("jose.not-compact", {
      received: `content of type ${quoted(cty)}`,
      expected: "a signed token (cty JWT)",
    });
  }
  return plaintext;
}

function algOf(token: string): string {
  return quoted(decodeJws(token).header.alg);
}

async function findKey(provider: Provider, { alg, enc, kid }: JsonObject): Promise<JweKey> {
  const secret = provider.clientSecret?.reveal();
  if (alg === "dir" || alg === "A128KW" || alg === "A256KW") {
    const bytes =
      alg === "A128KW"
        ? 16
        : alg === "dir" && enc === "A256CBC-HS512"
          ? 64
          : alg === "dir" && enc === "A128GCM"
            ? 16
            : 32;
    return deriveKey(provider, secret ?? "", bytes);
  }
  const fitting = (provider.clientKeys ?? []).filter(
    (key) => key.alg === alg && (kid === undefined || key.kid === kid),
  );
  const [key] = fitting;
  if (!key) fail("jose.key-unknown", { received: `an encrypted token for key ID ${quoted(kid)}` });
  return key;
}

/** OpenID Connect Core 1.0 section 10.2: the left-most bits of the hash of the client secret. */
async function deriveKey({ tools }: Provider, secret: string, bytes: number): Promise<JweKey> {
  const hash: Hash = bytes > 32 ? "SHA-512" : "SHA-256";
  const digest = await tools.platform.crypto.digest(hash, new TextEncoder().encode(secret));
  return { kty: "oct", k: encodeBase64url(digest.slice(0, bytes)) };
}

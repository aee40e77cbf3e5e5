import { createTools, encryptJwe, type Jwk } from "tenonsaw/jose";

const tools = createTools();

/** A token inside an encrypted one, by the key's own algorithm (RFC 7519 section 5.2). */
export function encrypt(key: Jwk, token: string): Promise<string> {
  const { alg = "RSA-OAEP-256", kid } = key;
  const header = { alg, enc: "A128CBC-HS256", cty: "JWT", ...(kid !== undefined && { kid }) };
  return encryptJwe(tools, key, header as Parameters<typeof encryptJwe>[2], token);
}

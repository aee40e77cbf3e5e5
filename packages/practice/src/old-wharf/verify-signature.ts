import { createHmac, createPublicKey, timingSafeEqual, verify, type JsonWebKey } from "node:crypto";

/** A request's protocol parameters and all else that its signature covers: RFC 5849 section 3.4.1.3.1. */
export interface SignedRequest {
  readonly method: string;
  /** Scheme, host, port and path. */
  readonly address: string;
  /** Everything but the signature, names and values decoded. */
  readonly parameters: readonly (readonly [string, string])[];
  /** `oauth_…`, from the one place they stand in; undefined where they stand in two. */
  readonly protocol: ReadonlyMap<string, string> | undefined;
}

export async function readSignedRequest(request: Request, origin: string): Promise<SignedRequest> {
  const url = new URL(request.url);
  const isForm = /^application\/x-www-form-urlencoded\b/i.test(request.headers.get("content-type") ?? "");
  const query = pairs(url.search.slice(1));
  const form = isForm ? pairs(await request.clone().text()) : [];
  const header = pairsOfHeader(request.headers.get("authorization") ?? "");
  const places = [query, form, header].map((all) => all.filter(([name]) => name.startsWith("oauth_")));
  const used = places.filter((all) => all.length > 0);
  const [protocol = []] = used;
  const isDoubled = new Set(protocol.map(([name]) => name)).size < protocol.length;
  return {
    method: request.method,
    address: origin + url.pathname,
    parameters: [...query, ...form, ...header].filter(
      ([name]) => name !== "oauth_signature" && name !== "realm",
    ),
    protocol: used.length > 1 || isDoubled ? undefined : new Map(protocol),
  };
}

/** RFC 5849 section 3.2, by this server's own arithmetic. */
export function isSignatureGood(
  signed: SignedRequest,
  client: { readonly clientSecret?: string; readonly publicKey?: object | undefined },
  tokenSecret: string,
): boolean {
  const signature = signed.protocol?.get("oauth_signature") ?? "";
  const key = `${encode(client.clientSecret ?? "")}&${encode(tokenSecret)}`;
  const text = baseString(signed);
  switch (signed.protocol?.get("oauth_signature_method")) {
    case "PLAINTEXT":
      return isSame(signature, key);
    case "HMAC-SHA1":
      return isSame(signature, createHmac("sha1", key).update(text).digest("base64"));
    case "HMAC-SHA256":
      return isSame(signature, createHmac("sha256", key).update(text).digest("base64"));
    case "RSA-SHA1":
      return (
        client.publicKey !== undefined &&
        verify(
          "sha1",
          Buffer.from(text),
          createPublicKey({ key: client.publicKey as JsonWebKey, format: "jwk" }),
          Buffer.from(signature, "base64"),
        )
      );
    default:
      return false;
  }
}

function baseString({ method, address, parameters }: SignedRequest): string {
  const lines = parameters.map(([name, value]) => `${encode(name)}=${encode(value)}`);
  // "=" sorts before every character that an encoded name can have but "%", "-", "." and digits: sort by parts.
  lines.sort((left, right) =>
    Buffer.compare(Buffer.from(left.replace("=", "\0")), Buffer.from(right.replace("=", "\0"))),
  );
  return [method, address, lines.join("&")].map(encode).join("&");
}

function encode(text: string): string {
  return [...Buffer.from(text)]
    .map((byte) => {
      const character = String.fromCharCode(byte);
      return /[A-Za-z0-9._~-]/.test(character)
        ? character
        : `%${byte.toString(16).toUpperCase().padStart(2, "0")}`;
    })
    .join("");
}

function pairs(text: string): (readonly [string, string])[] {
  return [...new URLSearchParams(text)];
}

function pairsOfHeader(header: string): (readonly [string, string])[] {
  const [, list = ""] = /^OAuth\s+(.*)$/i.exec(header) ?? [];
  return [...list.matchAll(/([^\s,=]+)="([^"]*)"/g)].map(
    ([, name = "", value = ""]) => [decodeURIComponent(name), decodeURIComponent(value)] as const,
  );
}

function isSame(left: string, right: string): boolean {
  return left.length === right.length && timingSafeEqual(Buffer.from(left), Buffer.from(right));
}

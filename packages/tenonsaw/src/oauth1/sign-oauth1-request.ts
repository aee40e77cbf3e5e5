import { encodeBase64url } from "../jose/index.js";
import { fail, quoted } from "../problem/index.js";
import { requireFit } from "../trace/index.js";
import { requireOAuth1, type OAuth1Provider } from "./open-oauth1-provider.js";
import { percentEncode, signParts, type Parameters } from "./signature.js";

/** Token credentials, or temporary ones; left out where there are none yet. */
export interface OAuth1Token {
  readonly token: string;
  readonly tokenSecret: string;
}

/** A request to be signed (RFC 5849 section 3.4.1). */
export interface OAuth1Request {
  readonly method: string;
  readonly url: string;
  readonly headers: Headers;
  readonly body?: BodyInit | null;
}

const formType = "application/x-www-form-urlencoded";

/**
 * Signs one request and puts the protocol's parameters where the provider wants them: RFC 5849 sections 3.1 and 3.5.
 *
 * @param further protocol parameters of this request, such as `oauth_verifier`
 * @throws oauth1.request-unsignable, provider.not-open, server.unfit-argument
 */
export async function signOAuth1Request(
  provider: OAuth1Provider,
  credentials: OAuth1Token | undefined,
  request: OAuth1Request,
  further: Parameters = [],
): Promise<OAuth1Request> {
  requireOAuth1(provider);
  requireFit(
    request,
    (given) => given.headers instanceof Headers,
    "a request: { method, url, headers, body }",
  );
  const { method, url, headers } = request;
  const form = readForm(request);
  requireUnreserved([...new URL(url).searchParams.keys(), ...(form ?? []).map(([name]) => name)]);
  const { clientId, signatureMethod, tools } = provider;
  const isPlain = signatureMethod === "PLAINTEXT";
  const unsigned: Parameters = [
    ["oauth_consumer_key", clientId],
    ...(credentials ? [["oauth_token", credentials.token] as const] : []),
    ["oauth_signature_method", signatureMethod],
    // 3.3: 128 random bits are not going to repeat within a second.
    ...(isPlain
      ? []
      : ([
          ["oauth_timestamp", String(Math.floor(tools.platform.now()))],
          ["oauth_nonce", encodeBase64url(tools.platform.randomBytes(16))],
        ] as const)),
    ["oauth_version", "1.0"],
    ...further,
  ];
  const parts = { method, url, form: form ?? [], protocol: unsigned };
  const signature = await signParts(provider, credentials?.tokenSecret ?? "", parts);
  return transmit(provider, { ...request, headers: new Headers(headers) }, form, [
    ...unsigned,
    ["oauth_signature", signature],
  ]);
}

/** RFC 5849 section 3.5: in one place and no other. */
function transmit(
  { transmission, realm }: OAuth1Provider,
  request: OAuth1Request,
  form: Parameters | undefined,
  protocol: Parameters,
): OAuth1Request {
  const { url, headers } = request;
  if (form && request.body != null) headers.set("content-type", formType);
  if (form && transmission === "body") {
    headers.set("content-type", formType);
    return { ...request, body: new URLSearchParams([...form, ...protocol].map(toPair)).toString() };
  }
  if (transmission === "query") {
    const extended = new URL(url);
    for (const [name, value] of protocol) extended.searchParams.append(name, value);
    // The query is spelled anew by that, so the signature, made over what it says, still fits.
    return { ...request, url: extended.href };
  }
  const named = protocol.map(([name, value]) => `${percentEncode(name)}="${percentEncode(value)}"`);
  headers.set(
    "authorization",
    `OAuth ${[...(realm === undefined ? [] : [`realm="${realm}"`]), ...named].join(", ")}`,
  );
  return request;
}

/**
 * The members of a form body, which the signature covers (3.4.1.3.1); undefined for a body of another kind, which it
 * does not.
 */
function readForm({ headers, body, method }: OAuth1Request): Parameters | undefined {
  if (body instanceof URLSearchParams) return [...body];
  const type = headers.get("content-type") ?? "";
  const isForm = type.split(";")[0]?.trim().toLowerCase() === formType;
  if (body === undefined || body === null) return isForm || method === "POST" ? [] : undefined;
  if (!isForm) return undefined;
  if (typeof body === "string") return [...new URLSearchParams(body)];
  fail("oauth1.request-unsignable", { received: "a form that is neither text nor URLSearchParams" });
}

function requireUnreserved(names: readonly string[]): void {
  const reserved = names.filter((name) => name.startsWith("oauth_"));
  if (reserved.length > 0)
    fail("oauth1.request-unsignable", { received: reserved.map((name) => quoted(name, 40)).join(", ") });
}

function toPair([name, value]: readonly [string, string]): [string, string] {
  return [name, value];
}

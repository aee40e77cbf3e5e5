import { checkProof } from "./dpop.js";
import { peerCertificate } from "./peer-certificate.js";
import { randomText } from "./random-text.js";
import { createTools, KeySet, verifyJws, type JsonObject } from "tenonsaw/jose";

export interface AccessTokenSettings {
  /** Whose tokens are taken. */
  readonly isIssuer: (iss: string) => boolean;
  /** The API's own identifier, the audience of its tokens. */
  readonly audience: string;
  readonly keySetUrl: string;
  readonly algorithm: "RS256" | "PS256" | "ES256" | "EdDSA";
  readonly now: () => number;
}

export type Admission =
  | { readonly kind: "admitted"; readonly claims: JsonObject }
  | {
      readonly kind: "refused";
      readonly status: 401 | 403;
      readonly challenge: string;
      readonly message: string;
      /** What a proof of possession has to carry (RFC 9449 section 9). */
      readonly nonce?: string;
    };

/** An API's door: RFC 9068 section 4 for the token, RFC 6750 section 3 for the refusal. */
export function createDoor(realm: string, settings: AccessTokenSettings) {
  const tools = createTools();
  const nonce = randomText();
  const used = new Set<string>();
  const keys = new KeySet(tools, { keys: settings.keySetUrl, timeoutSeconds: 5 });

  return async function admit(request: Request, scope: string): Promise<Admission> {
    const refuse = (status: 401 | 403, message: string, ...parameters: readonly string[]): Admission => {
      return {
        kind: "refused",
        status,
        message,
        challenge: [`Bearer realm="${realm}"`, ...parameters].join(", "),
      };
    };
    const authorization = request.headers.get("authorization") ?? "";
    const [, scheme = "", token] = /^(Bearer|DPoP) ([\w.~+/-]+=*)$/i.exec(authorization) ?? [];
    // RFC 6750 3: without a token only the scheme is named.
    if (token === undefined) return refuse(401, "An access token is needed.");
    const claims = await read(token);
    if (claims === "another format") {
      const advice = 'error_description="The format of this token is not taken here; typ at+jwt is"';
      return refuse(401, "The access token has another format.", 'error="invalid_token"', advice);
    }
    if (!claims) return refuse(401, "The access token is not accepted.", 'error="invalid_token"');
    const confirmation = claims["cnf"] as { jkt?: string; "x5t#S256"?: string } | undefined;
    const bound = confirmation?.jkt;
    const certificate = confirmation?.["x5t#S256"];
    // RFC 8705 3: whoever brings the token without its certificate has stolen it.
    if (certificate !== undefined && peerCertificate(request)?.thumbprint !== certificate)
      return refuse(401, "The access token takes the certificate it was bound to.", 'error="invalid_token"');
    if (bound !== undefined || scheme.toLowerCase() === "dpop") {
      const { method, url } = request;
      const proof = await checkProof(request.headers.get("dpop") ?? "", {
        method,
        url,
        now: settings.now(),
        nonce,
        used,
        accessToken: token,
      });
      const isProven = scheme.toLowerCase() === "dpop" && proof.kind === "good" && proof.thumbprint === bound;
      if (!isProven) {
        const error = proof.kind === "refused" ? proof.error : "invalid_token";
        return {
          kind: "refused",
          status: 401,
          message: "The access token takes a proof of possession.",
          challenge: `DPoP realm="${realm}", error="${error}"`,
          nonce,
        };
      }
    }
    if (!String(claims["scope"]).split(" ").includes(scope)) {
      return refuse(
        403,
        `The access token does not allow ${scope}.`,
        'error="insufficient_scope"',
        `scope="${scope}"`,
      );
    }
    return { kind: "admitted", claims };
  };

  async function read(token: string): Promise<JsonObject | "another format" | undefined> {
    try {
      const { header, payload } = await verifyJws(tools, token, [settings.algorithm], (head, algorithm) =>
        keys.find(head, algorithm),
      );
      if (header.typ !== "at+jwt") return "another format";
      const isOurs =
        settings.isIssuer(String(payload["iss"])) &&
        payload["aud"] === settings.audience &&
        Number(payload["exp"]) > settings.now() &&
        // RFC 7519 4.1.5 and 4.1.6, and a minute for the clocks.
        Math.max(Number(payload["iat"] ?? 0), Number(payload["nbf"] ?? 0)) <= settings.now() + 60;
      return isOurs ? payload : undefined;
    } catch {
      return undefined;
    }
  }
}

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
    };

/** An API's door: RFC 9068 section 4 for the token, RFC 6750 section 3 for the refusal. */
export function createDoor(realm: string, settings: AccessTokenSettings) {
  const tools = createTools();
  const keys = new KeySet(tools, { keys: settings.keySetUrl, timeoutSeconds: 5 });

  return async function admit(authorization: string | undefined, scope: string): Promise<Admission> {
    const refuse = (status: 401 | 403, message: string, ...parameters: readonly string[]): Admission => {
      return {
        kind: "refused",
        status,
        message,
        challenge: [`Bearer realm="${realm}"`, ...parameters].join(", "),
      };
    };
    const [, token] = /^Bearer ([\w.~+/-]+=*)$/i.exec(authorization ?? "") ?? [];
    // RFC 6750 3: without a token only the scheme is named.
    if (token === undefined) return refuse(401, "An access token is needed.");
    const claims = await read(token);
    if (claims === "another format") {
      const advice = 'error_description="The format of this token is not taken here; typ at+jwt is"';
      return refuse(401, "The access token has another format.", 'error="invalid_token"', advice);
    }
    if (!claims) return refuse(401, "The access token is not accepted.", 'error="invalid_token"');
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
        Number(payload["exp"]) > settings.now();
      return isOurs ? payload : undefined;
    } catch {
      return undefined;
    }
  }
}

import { fail, quoted } from "../problem/index.js";
import {
  checkIssuer,
  clockToleranceSeconds,
  isAudience,
  openToken,
  type Provider,
} from "../provider/index.js";
import { check } from "../trace/index.js";

/**
 * The parameters of an authorization response, out of the JWT that carries them, its signature, issuer, audience and expiry checked (JWT Secured Authorization Response Mode, section 2.4).
 *
 * @param parameters of the query, the fragment or the form
 * @throws response.not-signed, response.parameter-duplicated, response.jwt-refused, response.issuer-mismatch, jose.*
 */
export async function openPackedResponse(
  provider: Provider,
  parameters: URLSearchParams,
): Promise<URLSearchParams> {
  const { tools, registered, clientId } = provider;
  const packed = parameters.getAll("response");
  if (packed.length > 1) fail("response.parameter-duplicated", { received: "response more than once" });
  // 2.4: where the mode is a JWT, nothing outside of it counts, an error least of all.
  const [token] = packed;
  if (token === undefined || token === "") {
    const names = [...parameters.keys()].map((name) => quoted(name, 40));
    fail("response.not-signed", { received: `the parameters ${names.join(", ") || "(none)"}` });
  }
  const { authorizationSignedResponseAlg: alg, authorizationEncryptedResponseAlg: encryption } = registered;
  const signing = alg === undefined ? provider.signatureAlgorithms : [alg];
  const { payload } = await openToken(provider, token, signing, encryption);
  const { iss, aud, exp, ...members } = payload;
  checkIssuer(tools, "response.issuer-mismatch", provider, typeof iss === "string" ? iss : "");

  check(tools, "response.jwt-refused", isAudience(aud, clientId), () => ({
    received: `aud ${quoted(aud)}`,
    expected: `aud ${quoted(clientId)}`,
    because: "audience" as const,
  }));
  check(
    tools,
    "response.jwt-refused",
    typeof exp === "number" && tools.platform.now() < exp + clockToleranceSeconds,
    () => ({
      received: `exp ${quoted(exp)}`,
      expected: "exp that is not over",
      because: "time" as const,
    }),
  );
  const entries = Object.entries(members).filter(([, value]) => ["string", "number"].includes(typeof value));
  return new URLSearchParams([
    ...entries.map(([name, value]) => [name, String(value)]),
    ["iss", String(iss)],
  ]);
}

import { createHash } from "node:crypto";
import { createTools, decodeJws, prepareKey, thumbprint, verifyJws, type Jwk } from "tenonsaw/jose";

const tools = createTools();

/** What a proof has to fit: RFC 9449 section 4.3. */
export interface ProofContext {
  readonly method: string;
  readonly url: string;
  readonly now: number;
  readonly nonce: string;
  /** IDs of proofs that were used. */
  readonly used: Set<string>;
  /** Where the proof comes along with an access token. */
  readonly accessToken?: string;
}

export type ProofResult =
  | { readonly kind: "good"; readonly thumbprint: string }
  | {
      readonly kind: "refused";
      readonly error: "invalid_dpop_proof" | "use_dpop_nonce";
      readonly why: string;
    };

/** Checks a proof of possession, all of RFC 9449 section 4.3. */
export async function checkProof(proof: string, context: ProofContext): Promise<ProofResult> {
  const refuse = (why: string): ProofResult => ({ kind: "refused", error: "invalid_dpop_proof", why });
  try {
    const { header } = decodeJws(proof);
    const jwk = header["jwk"] as Jwk | undefined;
    if (header.typ !== "dpop+jwt" || !jwk || jwk.d !== undefined) return refuse("typ or jwk");
    const { payload } = await verifyJws(tools, proof, ["ES256", "EdDSA", "PS256"], (_, algorithm) =>
      prepareKey(tools, jwk, algorithm, "verify"),
    );
    const { htm, htu, iat, jti, ath, nonce } = payload;
    const { origin, pathname } = new URL(context.url);
    if (htm !== context.method || htu !== origin + pathname) return refuse("htm or htu");
    if (!(Math.abs(Number(iat) - context.now) < 300)) return refuse("iat");
    if (typeof jti !== "string" || context.used.has(jti)) return refuse("jti");
    if (nonce !== context.nonce) return { kind: "refused", error: "use_dpop_nonce", why: "nonce" };
    const expected =
      context.accessToken && createHash("sha256").update(context.accessToken).digest("base64url");
    if (ath !== expected) return refuse("ath");
    context.used.add(jti);
    return { kind: "good", thumbprint: await thumbprint(tools, jwk) };
  } catch {
    return refuse("its signature does not hold");
  }
}

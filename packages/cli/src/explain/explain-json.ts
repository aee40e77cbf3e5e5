import { isProblem, type Platform } from "tenonsaw";
import {
  createTools,
  isSignatureAlgorithm,
  prepareKey,
  publicPart,
  type JsonObject,
  type Jwk,
} from "tenonsaw/jose";
import { redactEntries } from "tenonsaw/trace";
import type { Explanation, Finding, Part } from "./explanation.js";
import { describeMember, findExpired } from "./explain-token.js";
import { describeAnswer } from "./parameters.js";

const isObject = (value: unknown): value is JsonObject =>
  typeof value === "object" && value !== null && !Array.isArray(value);

/** Explains what a provider publishes, or a token's content: a key set or key, metadata, claims; undefined for other JSON. */
export async function explainJson(platform: Platform, value: JsonObject): Promise<Explanation | undefined> {
  const keys = "kty" in value ? [value] : value["keys"];
  if (Array.isArray(keys)) return explainKeys(keys);
  if ("issuer" in value && Object.keys(value).some((name) => /_endpoint$|^jwks_uri$/.test(name)))
    return explainMetadata(platform, value);
  if ("iss" in value && ["sub", "aud", "exp"].some((name) => name in value))
    return explainClaims(platform, value);
  return undefined;
}

async function explainKeys(keys: readonly unknown[]): Promise<Explanation> {
  const findings: Finding[] = [];
  const parts: Part[] = [];
  for (const [index, key] of keys.entries()) {
    const name = `key ${index + 1}`;
    if (!isObject(key)) {
      findings.push({ verdict: "wrong", message: `${name} is no JSON object (RFC 7517 section 4).` });
      continue;
    }
    const { kty, kid, alg, use, crv } = key;
    const half = publicPart(key as unknown as Jwk);
    const isPrivate = Object.keys(half).length < Object.keys(key).length;
    const said = [kty, crv, alg, use].filter((each) => typeof each === "string").join(", ");
    parts.push({
      name,
      value: typeof kid === "string" ? kid : "without kid",
      meaning: `${said}${isPrivate ? ", private" : ""}`,
    });
    if (isPrivate)
      findings.push({
        verdict: "wrong",
        message: `${name} is private: whoever has it signs or decrypts in its owner's name. Publish the public half only; where it has been shown, make another (tenonsaw keys).`,
      });
    const fault = await faultOf(kty === "oct" ? key : half);
    if (fault) findings.push({ verdict: "wrong", message: `${name}: ${fault}` });
    if (keys.length > 1 && typeof kid !== "string")
      findings.push({
        verdict: "careful",
        message: `${name} has no kid: tokens cannot say that they mean it.`,
      });
  }
  return {
    kind: "key set",
    summary: keys.length === 1 ? "A key" : `${keys.length} keys`,
    parts,
    findings,
    judgements: [],
  };
}

/** What keeps a key from being used, by the same code that would use it. */
async function faultOf(key: Partial<Jwk>): Promise<string | undefined> {
  const { alg, use } = key;
  if (use === "enc" || !isSignatureAlgorithm(alg)) return undefined;
  try {
    await prepareKey(createTools(), key as Jwk, alg, "verify");
    return undefined;
  } catch (error) {
    if (!isProblem(error)) throw error;
    const { title, received = "", expected } = error.problem;
    return `${title}: expected ${expected}, received ${received}.`;
  }
}

const metadataMeanings: Readonly<Record<string, string>> = {
  issuer: "what `issuer` of the settings has to be, character for character",
  authorization_endpoint: "where browsers are sent",
  token_endpoint: "where codes and refresh tokens are exchanged",
  userinfo_endpoint: "who somebody is, by an access token",
  jwks_uri: "the keys that tokens are signed with",
  end_session_endpoint: "where people sign out",
  revocation_endpoint: "where tokens are taken back",
};

async function explainMetadata(platform: Platform, value: JsonObject): Promise<Explanation> {
  return {
    kind: "metadata",
    summary: `What ${String(value["issuer"])} says of itself`,
    parts: await describeAnswer(platform, value, metadataMeanings, "what the provider can do"),
    findings: [
      {
        verdict: "careful",
        message: "Whether the settings agree with it is what `tenonsaw check` says.",
      },
    ],
    judgements: [],
  };
}

async function explainClaims(platform: Platform, value: JsonObject): Promise<Explanation> {
  const shown = await redactEntries(platform, Object.entries(value));
  return {
    kind: "claims",
    summary: `The claims of a token from ${String(value["iss"])}, without the token`,
    parts: Object.entries(shown).map(([name, text]) =>
      describeMember(platform, "claim", name, value[name], text),
    ),
    findings: [
      ...findExpired(value, platform.now()),
      {
        verdict: "careful",
        message:
          "Claims alone prove nothing: paste the token itself, and its header and signature are looked at, too.",
      },
    ],
    judgements: [],
  };
}

import { checkIdTokenClaims, isProblem, requireClaims, type Platform, type Problem } from "tenonsaw";
import {
  decodeJws,
  isKeyPairAlgorithm,
  isSignatureAlgorithm,
  signatureAlgorithms,
  signatureBytes,
  type DecodedJws,
  type JsonObject,
} from "tenonsaw/jose";
import { describeProblem, quoted } from "tenonsaw/problem";
import { fingerprint, isSecretName } from "tenonsaw/trace";
import type { ExplainContext, Explanation, Finding, Judgement, Part } from "./explanation.js";
import { judgeAgainstApi, reasonOf } from "./judge-against-api.js";
import { tokenMeanings } from "./meanings.js";
import { describeInstant, describeSpan } from "./time.js";

const instants = new Set(["exp", "nbf", "iat", "auth_time"]);

/** Explains a JWT without a key: what its parts mean, and what can be seen to be wrong (RFC 7515, 7519, 8725). */
export async function explainToken(context: ExplainContext, token: string): Promise<Explanation> {
  const decoded = tryDecode(token);
  if ("code" in decoded) return explainBroken(token, decoded);
  const { header, payload } = decoded;
  const now = context.platform.now();
  return {
    kind: "token",
    summary: summarise(decoded, now),
    parts: [
      ...(await describeMembers(context.platform, "header", header)),
      ...(await describeMembers(context.platform, "claim", payload)),
      {
        name: "signature",
        value: `${decoded.signature.length} bytes`,
        meaning: "proves who made it; not checked here, that needs the issuer's key",
      },
    ],
    findings: [...findMistakes(decoded, now), ...findLive(decoded, now)],
    judgements: context.api
      ? [judgeAgainstApi(context.platform, context.api, token)]
      : judge(context, decoded),
  };
}

function tryDecode(token: string): DecodedJws | Problem {
  try {
    return decodeJws(token);
  } catch (error) {
    if (isProblem(error)) return error.problem;
    throw error;
  }
}

function explainBroken(token: string, problem: Problem): Explanation {
  const parts = token.split(".");
  const isEncrypted = problem.code === "jose.encrypted";
  // Of a header that could be read, nothing is missing.
  const isCut = !["jose.encrypted", "jose.header-refused", "jose.algorithm-refused"].includes(problem.code);
  return {
    kind: "token",
    summary: isEncrypted
      ? "An encrypted token; only its receiver can read it"
      : "Something like a token, but broken",
    parts: parts.map((part, index) => ({
      name: `part ${index + 1}`,
      value: `${part.length} characters`,
      meaning: isCut || isEncrypted ? "not readable" : "not looked at, for what is wrong with the header",
    })),
    findings: [
      {
        verdict: isEncrypted ? "careful" : "wrong",
        message: `${problem.title}. Expected ${problem.expected}; received ${problem.received ?? "something else"}.${isCut ? " A token that was cut looks like this." : ""}`,
        code: problem.code,
      },
    ],
    judgements: [],
  };
}

function summarise({ header, payload }: DecodedJws, now: number): string {
  const kind = kindOf(header, payload);
  const expiry =
    typeof payload["exp"] === "number"
      ? `, ${payload["exp"] > now ? "expires" : "expired"} ${describeSpan(payload["exp"] - now)}`
      : "";
  const issuer =
    typeof payload["iss"] === "string" ? ` from ${payload["iss"]}` : " that does not say who made it";
  return `${kind}${issuer}${expiry}`;
}

const logoutEvent = "http://schemas.openid.net/event/backchannel-logout";

function kindOf(header: DecodedJws["header"], payload: JsonObject): string {
  const type = header.typ?.toLowerCase();
  if (type === "at+jwt") return "An access token";
  if (type === "dpop+jwt") return "A DPoP proof";
  if (type === "logout+jwt" || isLogout(payload)) return "A logout token";
  return "nonce" in payload ? "An ID token" : "A token";
}

function isLogout({ events }: JsonObject): boolean {
  return typeof events === "object" && events !== null && logoutEvent in events;
}

async function describeMembers(
  platform: Platform,
  where: string,
  members: JsonObject,
): Promise<readonly Part[]> {
  const parts: Part[] = [];
  for (const [name, value] of Object.entries(members)) {
    const text = typeof value === "string" ? value : JSON.stringify(value);
    const shown = isSecretName(name) ? await fingerprint(platform, text) : text;
    parts.push(describeMember(platform, where, name, value, shown));
  }
  return parts;
}

/** @param shown the value as it may be shown; an instant is told in words */
export function describeMember(
  platform: Platform,
  where: string,
  name: string,
  value: unknown,
  shown: string,
): Part {
  const isInstant = instants.has(name) && typeof value === "number";
  return {
    name: `${where} ${name}`,
    value: isInstant ? describeInstant(value, platform.now()) : shown,
    meaning: tokenMeanings[name] ?? "the issuer's own",
  };
}

export function findExpired({ exp }: JsonObject, now: number): readonly Finding[] {
  if (typeof exp !== "number" || exp > now) return [];
  return [{ verdict: "wrong", message: `It expired ${describeSpan(exp - now)}.`, code: "identity.expired" }];
}

/** Signed with a key pair, by an algorithm that is spoken here. */
function isAccepted(alg: string): boolean {
  return isSignatureAlgorithm(alg) && isKeyPairAlgorithm(alg);
}

/** How long signatures of an algorithm are, where that is known, and whether this one is. */
function judgeLength(alg: string, length: number): { readonly expected: string; readonly isWhole: boolean } {
  const fixed = isSignatureAlgorithm(alg) ? signatureBytes(alg) : undefined;
  if (fixed !== undefined) return { expected: String(fixed), isWhole: length === fixed };
  // As long as the modulus, which is a multiple of 64 bits and has 2048 at least (RFC 7518 section 3.3).
  const isRsa = /^[RP]S\d/.test(alg);
  return { expected: "256, 384 or 512, by the key", isWhole: !isRsa || (length >= 256 && length % 8 === 0) };
}

function findMistakes({ header, payload, signature }: DecodedJws, now: number): readonly Finding[] {
  const findings: Finding[] = [];
  const wrong = (message: string, code: string) => findings.push({ verdict: "wrong", message, code });
  if (!isAccepted(header.alg)) {
    const accepted = signatureAlgorithms.filter(isKeyPairAlgorithm).join(", ");
    wrong(
      `The algorithm ${JSON.stringify(header.alg)} is not accepted; ${accepted} are. A token of "none" proves nothing, and one of an HMAC could be made by whoever checks it: it counts only where idTokenSignedResponseAlg names it.`,
      "jose.algorithm-refused",
    );
  }
  if (header["crit"] !== undefined)
    wrong("It demands extensions that are not understood.", "jose.critical-unknown");
  const whole = judgeLength(header.alg, signature.length);
  if (signature.length === 0) wrong("It has no signature.", "jose.signature-mismatch");
  else if (!whole.isWhole)
    wrong(
      `Its signature has ${signature.length} bytes, and one of ${header.alg} has ${whole.expected}: the token was cut or changed.`,
      "jose.signature-mismatch",
    );
  const { exp, nbf } = payload;
  findings.push(...findExpired(payload, now));
  if (typeof nbf === "number" && nbf > now)
    wrong(`It is valid from ${describeSpan(nbf - now)}.`, "identity.not-yet-valid");
  // Back-Channel Logout 1.0 section 2.4: a nonce would let it pass for an ID token.
  if (isLogout(payload) && "nonce" in payload)
    wrong("A logout token must not have a nonce.", "identity.nonce-mismatch");
  if (isLogout(payload) && !("sub" in payload) && !("sid" in payload)) {
    wrong("A logout token says neither whose (sub) nor which (sid) session ended.", "identity.claim-missing");
  }
  // A DPoP proof is the one token that has to bring its key (RFC 9449 section 4.2).
  const own = header.typ?.toLowerCase() === "dpop+jwt" ? ["jku", "x5u", "x5c"] : ["jku", "jwk", "x5u", "x5c"];
  for (const name of own.filter((member) => header[member] !== undefined)) {
    findings.push({
      verdict: "careful",
      message: `It brings its own key (${name}). That is never believed.`,
    });
  }
  if (exp === undefined) findings.push({ verdict: "careful", message: "It never expires: there is no exp." });
  return findings;
}

/** A token that still opens something is not to be passed around. */
function findLive({ payload, signature }: DecodedJws, now: number): readonly Finding[] {
  const { exp } = payload;
  const isLive = signature.length > 0 && (typeof exp !== "number" || exp > now);
  if (!isLive) return [];
  const until = typeof exp === "number" ? `for another ${describeSpan(exp - now, "bare")}` : "without end";
  return [
    {
      verdict: "careful",
      message: `This token is live ${until}. Whoever has it can use it: keep it out of chats, tickets and web pages. It is explained offline here, and not repeated.`,
    },
  ];
}

/** Holds the claims against each provider of the settings, as sign-in would. */
function judge(
  { platform, settings }: ExplainContext,
  { header, payload }: DecodedJws,
): readonly Judgement[] {
  return Object.entries(settings?.providers ?? {}).map(([provider, own]) => {
    const { issuer, clientId, deviations, trustedAudiences, idTokenSignedResponseAlg: registered } = own;
    const reasons: string[] = [];
    if (registered === undefined ? !isAccepted(header.alg) : header.alg !== registered)
      reasons.push(`jose.algorithm-refused: ${JSON.stringify(header.alg)}`);
    // RFC 8725 section 3.11, as sign-in does.
    const kind = header.typ?.toLowerCase().replace(/^application\//, "");
    if (kind === "at+jwt")
      reasons.push(
        "This is an access token (typ at+jwt); sign-in accepts ID tokens only. APIs take this one.",
      );
    else if (kind !== undefined && kind !== "jwt")
      reasons.push(
        reasonOf(describeProblem("identity.token-kind-mismatch", { received: `typ ${quoted(header.typ)}` })),
      );
    try {
      checkIdTokenClaims({ platform }, requireClaims(payload), {
        issuer,
        clientId,
        deviations,
        trustedAudiences,
      });
    } catch (error) {
      if (!isProblem(error)) throw error;
      reasons.push(reasonOf(error.problem));
    }
    return {
      provider,
      isAccepted: reasons.length === 0,
      reasons,
      notChecked: [
        "signature (needs the provider's keys)",
        "nonce" in payload
          ? "nonce (needs the sign-in it belongs to)"
          : "nonce (it has none: at a sign-in it is refused for that, after a refresh it is not)",
      ],
    };
  });
}

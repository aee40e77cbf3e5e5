import type { DecodedJws } from "tenonsaw/jose";
import type { Judgement } from "./explanation.js";
import { describeSpan } from "./time.js";

/** An API that a token is held against. */
export interface ApiInQuestion {
  readonly name: string;
  readonly issuer: string;
  /** What the API calls itself: its provider's `audience` or `resource`, or else its origin. */
  readonly audience: string;
  /** Claims that it insists on, with their values: `tokenClaims` in the settings. */
  readonly tokenClaims: Readonly<Record<string, unknown>>;
  /** What the call takes, where that was said. */
  readonly scope?: readonly string[];
  /** Issuers of other environments, by environment. */
  readonly elsewhere: ReadonlyMap<string, string>;
  /** Audiences of other APIs, by API. */
  readonly others: ReadonlyMap<string, string>;
}

/** Whether an API would take an access token, and if not, which of the usual reasons it is (RFC 9068 section 4). */
export function judgeAgainstApi(api: ApiInQuestion, { header, payload }: DecodedJws, now: number): Judgement {
  const { iss, aud, exp } = payload;
  const audiences = (Array.isArray(aud) ? aud : [aud]).filter(
    (each): each is string => typeof each === "string",
  );
  const isIdToken = "nonce" in payload || "at_hash" in payload;
  const rules: readonly (readonly [boolean, () => string])[] = [
    [
      isIdToken,
      () => "It is an ID token: it says who signed in, and is meant for the app. Send the access token.",
    ],
    [
      !isIdToken && header.typ?.toLowerCase() !== "at+jwt",
      () => "Its format is not that of RFC 9068 (typ at+jwt); an API that wants that refuses it.",
    ],
    ...Object.entries(api.tokenClaims).map(
      ([claim, value]) =>
        [
          !isIdToken && payload[claim] !== value,
          () =>
            `Its ${claim} is ${claim in payload ? JSON.stringify(payload[claim]) : "missing"}; this API takes ${JSON.stringify(value)} only: where it says the token's format, have the other format issued, at the provider.`,
        ] as const,
    ),
    [!isIssuedFor(api.issuer, iss), () => describeIssuer(api, iss)],
    [!isIdToken && !audiences.includes(api.audience), () => describeAudience(api, audiences)],
    [
      typeof exp !== "number" || exp <= now,
      () => (typeof exp === "number" ? `It expired ${describeSpan(exp - now)}.` : "It has no exp."),
    ],
  ];
  const allowed = scopesOf(payload["scope"] ?? payload["scp"]);
  const lacking = isIdToken ? [] : (api.scope ?? []).filter((each) => !allowed.includes(each));
  const reasons = rules.filter(([applies]) => applies).map(([, describe]) => describe());
  if (lacking.length > 0) {
    reasons.push(
      `It does not allow ${lacking.join(" ")}, only ${allowed.join(" ") || "nothing"}. Add the scope to \`scope\`, and allow it for this client at the provider.`,
    );
  }
  return {
    provider: api.name,
    isAccepted: reasons.length === 0,
    reasons,
    notChecked: [
      "signature (needs the issuer's keys)",
      ...(api.scope ? [] : ["whether its scope covers the call: name it with --scope"]),
      "revocation",
    ],
  };
}

function describeIssuer({ issuer, elsewhere }: ApiInQuestion, iss: unknown): string {
  const environment = [...elsewhere].find(([, other]) => other === iss)?.[0];
  const whose = environment === undefined ? "" : `, which is the issuer of the environment ${environment}`;
  return `Its issuer is ${typeof iss === "string" ? iss : "missing"}${whose}; the API trusts ${issuer}.`;
}

function describeAudience({ audience, others }: ApiInQuestion, audiences: readonly string[]): string {
  const other = [...others].find(([, each]) => audiences.includes(each))?.[0];
  const whose = other === undefined ? "" : `, which is the API ${other}`;
  return `It is meant for ${audiences.join(", ") || "nobody"}${whose}; this API is ${audience}. Set \`resource\` or \`audience\` of the provider.`;
}

/** The issuer itself, or one of its tenants where it has a placeholder. */
function isIssuedFor(issuer: string, iss: unknown): boolean {
  const [before = "", after] = issuer.split(/\{[\w-]+\}/);
  if (after === undefined || typeof iss !== "string") return iss === issuer;
  const tenant = iss.slice(before.length, iss.length - after.length);
  return iss === before + tenant + after && /^[\w.-]+$/.test(tenant);
}

/** RFC 9068 section 2.2.3: text with spaces; here and there a list. */
function scopesOf(claim: unknown): readonly string[] {
  const list: readonly unknown[] = Array.isArray(claim)
    ? claim
    : typeof claim === "string"
      ? claim.split(" ")
      : [];
  return list.filter((each): each is string => typeof each === "string" && each !== "");
}

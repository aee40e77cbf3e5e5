import { fingerprint, isSecretName, redactEntries } from "tenonsaw/trace";
import type { Platform } from "tenonsaw";
import type { JsonObject } from "tenonsaw/jose";
import type { Finding, Part } from "./explanation.js";

/** A secret as it may be shown. */
export async function veiled(platform: Platform, secret: string): Promise<string> {
  return `${await fingerprint(platform, secret)} (${secret.length} characters)`;
}

/** The parameters as parts, secret values by fingerprint. */
export async function describeParameters(
  platform: Platform,
  parameters: URLSearchParams,
  meanings: Readonly<Record<string, string>>,
): Promise<readonly Part[]> {
  const parts: Part[] = [];
  for (const [name, value] of parameters) {
    parts.push({
      name,
      value: isSecretName(name) ? await veiled(platform, value) : value,
      meaning: meanings[name] ?? "not a standard parameter",
    });
  }
  return parts;
}

/** The members of an answer as parts, what is secret in them by fingerprint. */
export async function describeAnswer(
  platform: Platform,
  answer: JsonObject,
  meanings: Readonly<Record<string, string>>,
  otherwise: string,
): Promise<readonly Part[]> {
  const shown = await redactEntries(platform, Object.entries(answer));
  return Object.entries(shown).map(([name, value]) => ({
    name,
    value,
    meaning: meanings[name] ?? otherwise,
  }));
}

/** RFC 6749 section 3.1: no parameter twice. */
export function findDoubled(parameters: URLSearchParams): readonly Finding[] {
  return [...new Set(parameters.keys())]
    .filter((name) => parameters.getAll(name).length > 1)
    .map((name) => ({
      verdict: "wrong",
      message: `The parameter ${name} is there more than once.`,
      code: "response.parameter-duplicated",
    }));
}

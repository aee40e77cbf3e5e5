import type { JsonObject } from "../jose/index.js";
import { isSecureUrl, limits } from "../platform/index.js";
import { fail, quoted, visible } from "../problem/index.js";
import { note, type Tools } from "../trace/index.js";
import {
  claimKind,
  findAt,
  type Pointers,
  type Profile,
  type ProfileFunction,
  type ProfileMapping,
  type ProfilePointers,
} from "../provider/index.js";

/** Where the standard claims are (OpenID Connect Core 1.0 section 5.1); roles are nowhere standard, but often there. */
const standardClaims: Readonly<Record<keyof ProfilePointers, string>> = {
  subject: "/sub",
  name: "/name",
  given: "/given_name",
  family: "/family_name",
  email: "/email",
  emailVerified: "/email_verified",
  picture: "/picture",
  locale: "/locale",
  roles: "/roles",
};

type Field = keyof Profile;

/** The profile that the mapping finds in the claims. What is there and cannot be used is told, as nobody can see it in the profile. */
export function mapProfile(tools: Tools, mapping: ProfileMapping, claims: JsonObject): Profile {
  const made = typeof mapping === "function" ? askMapping(mapping, claims) : undefined;
  const find = (field: Field): unknown =>
    typeof mapping === "function" ? made?.[field] : findAt(pointersOf(mapping, field), claims);
  const profile: Record<string, unknown> = {};
  for (const field of Object.keys(judges) as Field[]) {
    const value = find(field);
    if (value === undefined || value === null || value === "") continue;
    const { kept, why } = judges[field](value);
    if (kept !== undefined) profile[field] = kept;
    if (why !== undefined) note(tools, "identity", `${field} is not in the profile`, { why });
  }
  return profile;
}

interface Judged {
  readonly kept?: unknown;
  readonly why?: string;
}

const isBlank = (text: string) => text.trim() === "";
const textOf =
  (most: number) =>
  (value: unknown): Judged => {
    if (typeof value !== "string") return { why: `is ${claimKind(value)}, and no text` };
    if (isShown(value, most)) return { kept: value };
    const { length } = value as string;
    if (length > most) return { why: `has ${length} characters, and ${most} is the most` };
    return { why: isBlank(value) ? "is blank" : "has characters that a page or a terminal would act on" };
  };

const pictureText = textOf(limits.profilePicture);

const judges: Readonly<Record<Field, (value: unknown) => Judged>> = {
  name: textOf(limits.profileName),
  given: textOf(limits.profileName),
  family: textOf(limits.profileName),
  email: textOf(limits.profileEmail),
  emailVerified: (value) =>
    typeof value === "boolean"
      ? { kept: value }
      : { why: `is ${claimKind(value)}, and neither true nor false` },
  // Shown as an image later on: no scheme but https (or loopback http) gets that far.
  picture: (value) =>
    typeof value !== "string" || isSecureUrl(value) ? pictureText(value) : { why: "is no https address" },
  locale: textOf(limits.profileLocale),
  roles(value) {
    if (!Array.isArray(value)) return { why: `is ${claimKind(value)}, and no list` };
    const kept = value
      .filter((role): role is string => isShown(role, limits.profileRole))
      .slice(0, limits.profileRoles);
    const lost = value.length - kept.length;
    return {
      kept,
      ...(lost > 0 && { why: `has ${lost} that are no text, too long, or more than ${limits.profileRoles}` }),
    };
  },
};

/** What may be shown and kept: not too long, and nothing in it that a terminal, a log or a page would act on. */
export function isShown(value: unknown, most: number): value is string {
  return isText(value) && value.length <= most && visible(value) === value;
}

/**
 * What of the claims is to be kept with a session: as it is there, under the settings' names; absent where it is absent.
 *
 * @throws session.claims-too-large
 */
export function pickClaims(mapping: Readonly<Record<string, Pointers>>, claims: JsonObject): JsonObject {
  const found = Object.entries(mapping)
    .map(([name, pointers]) => [name, findAt(pointers, claims)])
    .filter(([, value]) => value !== undefined);
  const picked = Object.fromEntries(found) as JsonObject;
  const { length } = JSON.stringify(picked);
  // What decides who may do what is kept whole, or there is no session.
  if (length > limits.sessionClaims)
    fail("session.claims-too-large", { received: `${length} characters: ${Object.keys(picked).join(", ")}` });
  return picked;
}

/**
 * The subject that the mapping finds, for providers without ID tokens. A number becomes its digits.
 *
 * @throws identity.profile-field-missing naming the pointers and the members that were there
 */
export function mapSubject(mapping: ProfileMapping, claims: JsonObject): string {
  const pointers =
    typeof mapping === "function" ? ["the profile function"] : [pointersOf(mapping, "subject")].flat();
  const subject =
    typeof mapping === "function" ? askMapping(mapping, claims).subject : findAt(pointers, claims);
  if (isShown(subject, limits.subject)) return subject;
  if (typeof subject === "number" && Number.isSafeInteger(subject)) return String(subject);
  const members = Object.keys(claims).map((name) => quoted(name, 40));
  fail("identity.profile-field-missing", {
    received: `${subject === undefined ? "nothing" : `${claimKind(subject)}, which cannot be used,`} at ${pointers.join(" or ")}; there were ${members.join(", ") || "no members"}`,
    expected: `the subject at ${pointers.join(" or ")}`,
  });
}

/** A profile that is not there yet has none of its fields, and nobody would hear of it. */
function askMapping(mapping: ProfileFunction, claims: JsonObject): ReturnType<ProfileFunction> {
  const made: unknown = mapping(claims);
  if (typeof made === "object" && made !== null && !(made instanceof Promise)) return made;
  return fail("server.hook-unusable", {
    received: `\`profile\` answered ${made instanceof Promise ? "a promise" : `a value of type ${typeof made}`}`,
    expected: "an object, at once",
    because: made instanceof Promise ? "promise" : undefined,
  });
}

function pointersOf(mapping: ProfilePointers, field: keyof ProfilePointers): Pointers {
  return mapping[field] ?? standardClaims[field];
}

function isText(value: unknown): value is string {
  return typeof value === "string" && value.trim() !== "";
}

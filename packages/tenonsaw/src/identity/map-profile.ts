import type { JsonObject } from "../jose/index.js";
import { isSecureUrl, limits } from "../platform/index.js";
import { fail, quoted, visible } from "../problem/index.js";
import {
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

/** The profile that the mapping finds in the claims. */
export function mapProfile(mapping: ProfileMapping, claims: JsonObject): Profile {
  const made = typeof mapping === "function" ? askMapping(mapping, claims) : undefined;
  const find = (field: keyof ProfilePointers): unknown =>
    typeof mapping === "function" ? made?.[field] : findAt(pointersOf(mapping, field), claims);
  const [emailVerified, picture, roles] = [find("emailVerified"), find("picture"), find("roles")];
  const texts = (Object.keys(longest) as (keyof typeof longest)[])
    .map((field) => [field, find(field)] as const)
    .filter(([field, value]) => isShown(value, longest[field]));
  return {
    ...(Object.fromEntries(texts) as Pick<Profile, "name" | "given" | "family" | "email" | "locale">),
    ...(typeof emailVerified === "boolean" && { emailVerified }),
    // Shown as an image later on: no scheme but https (or loopback http) gets that far.
    ...(isShown(picture, limits.profilePicture) && isSecureUrl(picture) && { picture }),
    ...(Array.isArray(roles) && {
      roles: roles
        .filter((role): role is string => isShown(role, limits.profileRole))
        .slice(0, limits.profileRoles),
    }),
  };
}

const longest = {
  name: limits.profileName,
  given: limits.profileName,
  family: limits.profileName,
  email: limits.profileEmail,
  locale: limits.profileLocale,
} as const;

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
    received: `nothing usable at ${pointers.join(" or ")}; there were ${members.join(", ") || "no members"}`,
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

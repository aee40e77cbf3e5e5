import type { JsonObject } from "../jose/index.js";
import { isSecureUrl, limits } from "../platform/index.js";
import { fail, quoted, visible } from "../problem/index.js";
import type { Pointers, Profile, ProfileMapping, ProfilePointers } from "../provider/index.js";

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
  const made = typeof mapping === "function" ? mapping(claims) : undefined;
  const find = (field: keyof ProfilePointers): unknown =>
    typeof mapping === "function" ? made?.[field] : findFirst(pointersOf(mapping, field), claims);
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
    .map(([name, pointers]) => [name, findFirst(listOf(pointers), claims)])
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
  const pointers = typeof mapping === "function" ? ["the profile function"] : pointersOf(mapping, "subject");
  const subject = typeof mapping === "function" ? mapping(claims).subject : findFirst(pointers, claims);
  if (isShown(subject, limits.subject)) return subject;
  if (typeof subject === "number" && Number.isSafeInteger(subject)) return String(subject);
  const members = Object.keys(claims).map((name) => quoted(name, 40));
  fail("identity.profile-field-missing", {
    received: `nothing usable at ${pointers.join(" or ")}; there were ${members.join(", ") || "no members"}`,
    expected: `the subject at ${pointers.join(" or ")}`,
  });
}

function pointersOf(mapping: ProfilePointers, field: keyof ProfilePointers): readonly string[] {
  return listOf(mapping[field] ?? standardClaims[field]);
}

function listOf(pointers: Pointers): readonly string[] {
  return typeof pointers === "string" ? [pointers] : pointers;
}

function findFirst(pointers: readonly string[], claims: JsonObject): unknown {
  for (const pointer of pointers) {
    const found = resolvePointer(pointer, claims);
    if (found !== undefined && found !== null && found !== "") return found;
  }
  return undefined;
}

/** RFC 6901 section 4: own members only, and no error where the way ends. */
function resolvePointer(pointer: string, document: unknown): unknown {
  return pointer
    .split("/")
    .slice(1)
    .map((token) => token.replaceAll("~1", "/").replaceAll("~0", "~"))
    .reduce<unknown>((value, token) => {
      if (typeof value !== "object" || value === null || !Object.hasOwn(value, token)) return undefined;
      return (value as Record<string, unknown>)[token];
    }, document);
}

function isText(value: unknown): value is string {
  return typeof value === "string" && value.trim() !== "";
}

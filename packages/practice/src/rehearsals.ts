/** A fault the practice provider plays on request. */
export interface Rehearsal {
  readonly name: string;
  /** What goes wrong, and what a sound app makes of it. */
  readonly about: string;
}

export const rehearsals = [
  { name: "nonce-wrong", about: "The ID token carries another sign-in's nonce: sign-in is refused." },
  { name: "audience-wrong", about: "The ID token is for another client: sign-in is refused." },
  { name: "id-token-expired", about: "The ID token expired an hour ago: sign-in is refused." },
  {
    name: "key-rotated",
    about:
      "The ID token is signed with a key published this moment: the key set is fetched again, sign-in works.",
  },
  {
    name: "token-endpoint-slow",
    about: "The token endpoint answers after 15 seconds: the app gives up before that.",
  },
  {
    name: "token-endpoint-500",
    about: "The token endpoint answers with status 500: sign-in fails, later it works.",
  },
] as const satisfies readonly Rehearsal[];

export type RehearsalName = (typeof rehearsals)[number]["name"];

export function isRehearsal(name: string): name is RehearsalName {
  return rehearsals.some((rehearsal) => rehearsal.name === name);
}

import { ProblemError, quoted, type Problem } from "../problem/index.js";
import { oddName } from "./names.js";

/** What the parts of a page say. `{provider}`, `{date}` and `{what}` stand for what they name. */
export interface PartWords {
  readonly signIn: string;
  readonly signInWith: string;
  readonly signOut: string;
  readonly everywhere: string;
  readonly member: string;
  readonly notSignedIn: string;
  readonly failed: string;
  readonly needed: string;
  readonly agree: string;
  readonly refuse: string;
  readonly accounts: string;
  readonly noAccounts: string;
  readonly connect: string;
  readonly again: string;
  readonly disconnect: string;
  readonly since: string;
  readonly inOrder: string;
  readonly needsConsent: string;
  readonly unconfirmed: string;
}

const english: PartWords = {
  signIn: "Sign in",
  signInWith: "Sign in with {provider}",
  signOut: "Sign out",
  everywhere: "Sign out everywhere",
  member: "Signed in",
  notSignedIn: "You are not signed in. Nothing was shared.",
  failed: "That did not work. You can try again.",
  needed: "This needs your agreement first: {what}.",
  agree: "Go and agree",
  refuse: "Not now",
  accounts: "Connected accounts",
  noAccounts: "Nothing is connected.",
  connect: "Connect {provider}",
  again: "Connect again",
  disconnect: "Disconnect",
  since: "since {date}",
  inOrder: "in order",
  needsConsent: "needs your consent",
  unconfirmed: "not confirmed by the provider",
};

const german: PartWords = {
  signIn: "Anmelden",
  signInWith: "Anmelden mit {provider}",
  signOut: "Abmelden",
  everywhere: "Überall abmelden",
  member: "Angemeldet",
  notSignedIn: "Sie sind nicht angemeldet. Nichts wurde weitergegeben.",
  failed: "Das hat nicht geklappt. Sie können es noch einmal versuchen.",
  needed: "Dafür braucht es erst Ihre Zustimmung: {what}.",
  agree: "Zustimmen gehen",
  refuse: "Jetzt nicht",
  accounts: "Verbundene Konten",
  noAccounts: "Es ist nichts verbunden.",
  connect: "{provider} verbinden",
  again: "Neu verbinden",
  disconnect: "Trennen",
  since: "seit {date}",
  inOrder: "in Ordnung",
  needsConsent: "braucht Ihre Zustimmung",
  unconfirmed: "vom Anbieter nicht bestätigt",
};

/**
 * In the language of the page (BCP 47): German where it is that, English otherwise; with one's own words in their place. What
 * is wrong with either is in the console.
 */
export function speaking(
  given: string,
  own: Partial<PartWords> = {},
): { readonly language: string; readonly words: PartWords } {
  const odd = oddName(own, Object.keys(english));
  if (odd !== undefined) warnOf(`the word ${odd}`, Object.keys(english).join(", "));
  const language = isLanguage(given) ? given : "en";
  if (language !== given) warnOf(`the language ${quoted(given, 40)}`, "a tag such as en or de-AT");
  return { language, words: { ...(language.toLowerCase().startsWith("de") ? german : english), ...own } };
}

const warned = new Set<string>();

/** To whoever builds the page, who reads it in the console, once, where the catalogue's texts are not. */
export function warnOf(received: string, expected: string): void {
  if (warned.has(received)) return;
  warned.add(received);
  console.warn(new ProblemError("page.part-unclear", { received, expected }).message);
}

function isLanguage(tag: string): boolean {
  try {
    return Intl.getCanonicalLocales(tag).length === 1;
  } catch {
    return false;
  }
}

/** What a page says of how a trip ended; undefined where there is nothing to say. */
export function wordOf(
  kind: "granted" | "declined" | "failed" | "closed",
  words: PartWords,
): string | undefined {
  if (kind === "declined") return words.notSignedIn;
  return kind === "failed" ? words.failed : undefined;
}

/** What somebody is to agree to: a scope, or else at which provider. */
export function wordOfNeed({ ask }: Pick<Problem, "ask">, words: PartWords): string {
  return words.needed.replace("{what}", () => ask?.scope ?? ask?.provider ?? words.signIn);
}

/** What could not be loaded is tried again after so long. */
export const pauseMilliseconds = 5000;

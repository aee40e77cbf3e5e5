import { limits } from "../platform/index.js";
import Negotiator from "negotiator";
import * as v from "valibot";

const text = v.pipe(v.string(), v.minLength(1, "must not be empty"));

/** What the built-in pages say. `{provider}` stands for the provider's title. */
export const textEntries = {
  signIn: text,
  choose: text,
  signInWith: text,
  signingIn: text,
  goOn: text,
  needsScript: text,
  signedIn: text,
  closeWindow: text,
  declined: text,
  nothingShared: text,
  goBack: text,
  failed: text,
  mayTryAgain: text,
  tryAgain: text,
};

const languageTag = v.pipe(
  v.string(),
  v.regex(/^[A-Za-z]{2,8}(-[A-Za-z0-9]{1,8})*$/, "must be a language such as de or pt-BR"),
);

/** Texts by language (BCP 47): in place of the built-in ones, or further languages. */
export const textSettings = v.record(languageTag, v.partial(v.strictObject(textEntries)));

export type Texts = Readonly<Record<keyof typeof textEntries, string>>;

/** The texts of one language. */
export interface Wording extends Texts {
  readonly language: string;
}

const english: Texts = {
  signIn: "Sign in",
  choose: "Choose where you have an account.",
  signInWith: "Sign in with {provider}",
  signingIn: "Signing in",
  goOn: "Continue",
  needsScript: "Signing in with this provider needs JavaScript.",
  signedIn: "You are signed in",
  closeWindow: "You can close this window, or go on here.",
  declined: "You changed your mind",
  nothingShared: "You are not signed in, and nothing was shared.",
  goBack: "Go back",
  failed: "That did not work",
  mayTryAgain: "Your sign-in or request could not be completed. You can try again.",
  tryAgain: "Try again",
};

const german: Texts = {
  signIn: "Anmelden",
  choose: "Wählen Sie, wo Sie ein Konto haben.",
  signInWith: "Anmelden mit {provider}",
  signingIn: "Anmeldung läuft",
  goOn: "Weiter",
  needsScript: "Die Anmeldung bei diesem Anbieter braucht JavaScript.",
  signedIn: "Sie sind angemeldet",
  closeWindow: "Sie können dieses Fenster schließen oder hier weitermachen.",
  declined: "Sie haben es sich anders überlegt",
  nothingShared: "Sie sind nicht angemeldet, und nichts wurde weitergegeben.",
  goBack: "Zurück",
  failed: "Das hat nicht geklappt",
  mayTryAgain:
    "Anmeldung oder Anfrage konnten nicht abgeschlossen werden. Sie können es noch einmal versuchen.",
  tryAgain: "Noch einmal versuchen",
};

/** Chooses the language of each request's pages by `Accept-Language` (RFC 9110 section 12.5.4); English where none fits. */
export function createWordings(settings: v.InferOutput<typeof textSettings>): (request?: Request) => Wording {
  const wordings = new Map<string, Wording>();
  const tags = new Set(["en", "de", ...Object.keys(settings)]);
  for (const language of tags) {
    const builtIn = language.startsWith("de") ? german : english;
    wordings.set(language, { ...builtIn, ...(settings[language] as Partial<Texts> | undefined), language });
  }
  return (request) => {
    const header = request?.headers.get("accept-language") ?? "en";
    const accepted = header.length > limits.acceptLanguage ? "en" : header;
    const [best = "en"] = new Negotiator({ headers: { "accept-language": accepted } }).languages([...tags]);
    return wordings.get(best) ?? { ...english, language: "en" };
  };
}

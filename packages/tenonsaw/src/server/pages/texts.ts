import { limits } from "../../platform/index.js";
import Negotiator from "negotiator";
import type * as v from "valibot";
import type { textEntries, textSettings } from "../settings/text-settings.js";

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
  ownWindow: "Open in a window of its own: in this frame your browser keeps nothing for this app",
  signedIn: "You are signed in",
  closeWindow: "You can close this window, or go on here.",
  declined: "You are not signed in",
  nothingShared: "It was cancelled, or not allowed. Nothing was shared.",
  sessionEnded: "Your session has ended, and what you sent was not used. Sign in, and send it again.",
  connect: "Connect {provider}",
  connectAbout:
    "You go to {provider} and choose what this app may do there. That stays connected until you disconnect it here, signed in or not.",
  connected: "The account is connected",
  notConnected: "Nothing was connected",
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
  ownWindow:
    "In einem eigenen Fenster öffnen: in diesem Rahmen behält Ihr Browser nichts für diese Anwendung",
  signedIn: "Sie sind angemeldet",
  closeWindow: "Sie können dieses Fenster schließen oder hier weitermachen.",
  declined: "Sie sind nicht angemeldet",
  nothingShared: "Es wurde abgebrochen oder nicht erlaubt. Nichts wurde weitergegeben.",
  sessionEnded:
    "Ihre Sitzung ist zu Ende; was Sie abgeschickt haben, wurde nicht verwendet. Melden Sie sich an und schicken Sie es noch einmal ab.",
  connect: "{provider} verbinden",
  connectAbout:
    "Sie gehen zu {provider} und wählen, was diese Anwendung dort darf. Das bleibt verbunden, bis Sie es hier trennen, angemeldet oder nicht.",
  connected: "Das Konto ist verbunden",
  notConnected: "Es wurde nichts verbunden",
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

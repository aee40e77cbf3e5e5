import * as v from "valibot";

const text = v.pipe(
  v.string(),
  v.minLength(1),
  v.check(
    (words) => !/\{(?!provider\})[^{}]*\}/.test(words),
    "must have no other placeholder than {provider}: it would be shown as it is",
  ),
);

/** What the built-in pages say. `{provider}` stands for the provider's title. */
export const textEntries = {
  signIn: text,
  choose: text,
  signInWith: text,
  signingIn: text,
  goOn: text,
  needsScript: text,
  ownWindow: text,
  signedIn: text,
  closeWindow: text,
  declined: text,
  nothingShared: text,
  sessionEnded: text,
  connect: text,
  connectAbout: text,
  connected: text,
  notConnected: text,
  goBack: text,
  failed: text,
  mayTryAgain: text,
  tryAgain: text,
};

const languageTag = v.pipe(
  v.string(),
  v.regex(/^[A-Za-z]{2,3}(-[A-Za-z0-9]{1,8})*$/, "must be a language such as de or pt-BR"),
);

/** Texts by language (BCP 47): in place of the built-in ones, or further languages. */
export const textSettings = v.record(languageTag, v.partial(v.strictObject(textEntries)));

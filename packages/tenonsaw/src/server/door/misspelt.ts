import { ProblemError, quoted } from "../../problem/index.js";
import { nearestName } from "../../provider/index.js";
import type { Tools } from "../../trace/index.js";
import type { ResolvedSignInSettings } from "../settings/settings-types.js";
import { nameOf, readPopUp } from "./address-of.js";

/** Shorter names are near to whatever there is. */
const shortest = 5;
const longest = 40;
/** Of authorization requests (RFC 6749 section 4.1.1, RFC 8707 section 2, OpenID Connect Core 1.0 sections 3.1.2.1 and 5.5). */
const ofProtocol: readonly string[] = [
  "audience",
  "claims",
  "client_id",
  "display",
  "nonce",
  "prompt",
  "redirect_uri",
  "resource",
  "response_type",
  "state",
];
/** Words for the same that are no slip of the pen. */
const meant: Readonly<Record<string, string>> = {
  acr: "acrValues",
  back: "returnTo",
  continue: "returnTo",
  hint: "loginHint",
  lang: "uiLocales",
  language: "uiLocales",
  locale: "uiLocales",
  next: "returnTo",
  redirect: "returnTo",
  return: "returnTo",
};

/**
 * In development: a parameter or field that is passed over, and is nearly one that counts, such as `return_to`, or is one that
 * providers take; and a window in which no sign-in can be. What else stands there is nobody's business here.
 *
 * @param given what the address or the form says
 * @param known what it may say
 */
export function tellMisspelt(
  { settings, tools }: { readonly tools: Tools; readonly settings: ResolvedSignInSettings },
  request: Request,
  given: URLSearchParams,
  known: readonly string[],
): void {
  if (!settings.development) return;
  const tell = (received: string, expected: string, because?: "protocol" | "value") =>
    tools.report?.(
      new ProblemError("attempt.parameter-unknown", { received, expected, because }),
      nameOf(request),
    );
  for (const name of new Set(given.keys())) {
    if (known.includes(name)) continue;
    const isOfProtocol = ofProtocol.includes(name);
    const other = Object.hasOwn(meant, name) ? meant[name] : undefined;
    const isLong = name.length >= shortest && name.length <= longest;
    const nearest = other !== undefined && known.includes(other) ? other : isLong && nearestName(name, known);
    if (isOfProtocol) tell(quoted(name), `one of ${known.join(", ")}`, "protocol");
    else if (nearest) tell(quoted(name), quoted(nearest));
  }
  const where = given.get("in");
  if (known.includes("in") && where !== null && readPopUp(where) === undefined)
    tell(`in=${quoted(where, 40)}`, "in=pop-up, or no `in` for the page itself", "value");
}

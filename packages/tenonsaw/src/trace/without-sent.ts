import { isSecretName } from "./secret-names.js";
import type { Answer, Leg } from "./leg.js";

/** Shorter than any secret; what is as short stands in many texts by chance. */
const leastLength = 6;
const mark = "(what was sent)";

/**
 * An error answer without what it repeats of the request: some providers quote it in their descriptions, and an answer is told in the
 * log, on pages and in the trace. What was sent is known, in whichever spelling it comes back.
 */
export function withoutSent(leg: Pick<Leg, "form" | "headers">, answer: Answer): Answer {
  const spellings = [...new Set(secretsOf(leg).flatMap(spelled))]
    .filter(({ length }) => length >= leastLength)
    .sort((left, right) => right.length - left.length);
  const clean = (text: string) => spellings.reduce((whole, each) => whole.replaceAll(each, mark), text);
  const headers = new Headers();
  for (const [name, value] of answer.headers) headers.append(name, clean(value));
  return { ...answer, headers, text: clean(answer.text) };
}

function secretsOf({ form, headers = {} }: Pick<Leg, "form" | "headers">): readonly string[] {
  const sent = [...(form ?? [])].filter(([name]) => isSecretName(name)).map(([, value]) => value);
  for (const [name, value] of Object.entries(headers)) {
    if (!/^(authorization|dpop)$/i.test(name)) continue;
    const credentials = value.replace(/^\w+ +/, "");
    sent.push(credentials);
    if (!/^basic /i.test(value)) continue;
    const decoded = atob(credentials);
    // RFC 6749 section 2.3.1: the secret is form-encoded in there.
    const secret = decoded.slice(decoded.indexOf(":") + 1);
    sent.push(decoded, secret, ...new URLSearchParams(`secret=${secret}`).values());
  }
  return sent;
}

/** As it is, in an address, in a form, in JSON, and as a page escapes it. */
function spelled(secret: string): readonly string[] {
  return [
    secret,
    encodeURIComponent(secret),
    new URLSearchParams([["", secret]]).toString().slice(1),
    JSON.stringify(secret).slice(1, -1),
    secret.replace(/[&<>"']/g, (character) => `&#${character.charCodeAt(0)};`),
    secret.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll(">", "&gt;").replaceAll('"', "&quot;"),
  ];
}

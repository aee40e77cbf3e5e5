import { fail, quoted } from "../problem/index.js";
import { carriesForm, queryOf, type IncomingCall } from "./incoming.js";

/** What a call brings to be let in. */
export type Credentials =
  | {
      readonly kind: "token";
      readonly scheme: "bearer" | "dpop";
      /** What stands in a token's place: requireToken says whether it is one. */
      readonly token: string;
      readonly header: string;
    }
  | { readonly kind: "signed"; readonly place: "header" | "query" | "form" };

export type TokenCredentials = Extract<Credentials, { kind: "token" }>;

/** RFC 6750 section 2.1, RFC 9449 section 7.1: a scheme, spaces, one token. */
const tokenScheme = /^(bearer|dpop) +/i;

/** What is no padding is looked through in a search that never goes back. */
const isToken = (text: string) =>
  text.includes("=") ? /^[\w\-.~+/]+=*$/.test(text) : text !== "" && !/[^\w\-.~+/]/.test(text);

/**
 * What a call brings: the header looked at first, and, so that nothing is there twice, the query and where it may be the
 * form (RFC 6750 section 2: not more than one way).
 *
 * @throws guard.token-missing, guard.credentials-malformed, guard.token-misplaced, server.body-too-large and the like
 */
export function readCredentials(
  call: IncomingCall,
  { takesForms, takesSigned }: { readonly takesForms: boolean; readonly takesSigned: boolean },
): Credentials | Promise<Credentials> {
  const header = call.header("authorization");
  const query = queryOf(call.url);
  // Where nothing like it is in the address, escaped or not, it is not taken apart.
  const parameters = /access_token|oauth_|%/.test(query) ? new URLSearchParams(query) : undefined;
  if (parameters?.has("access_token") === true)
    fail("guard.token-misplaced", { received: "the parameter access_token in the query" });
  if (takesSigned && header !== undefined && /^oauth +/i.test(header))
    return { kind: "signed", place: "header" };
  if (takesSigned && parameters?.has("oauth_signature") === true) {
    if (header !== undefined)
      fail("guard.request-unsigned", {
        received: "protocol parameters in the query, and an Authorization header",
      });
    return { kind: "signed", place: "query" };
  }
  if (carriesForm(call) && (takesForms || (takesSigned && header === undefined)))
    return readForm(call, header, { takesForms, takesSigned });
  return header === undefined ? refuseNothing(call) : readHeader(header);
}

/** RFC 6750 section 2.2, RFC 5849 section 3.5.2. */
async function readForm(
  call: IncomingCall,
  header: string | undefined,
  { takesForms, takesSigned }: { readonly takesForms: boolean; readonly takesSigned: boolean },
): Promise<Credentials> {
  const form = await call.form();
  const all = form.getAll("access_token");
  const [token] = all;
  if (header !== undefined) {
    if (token !== undefined)
      fail("guard.token-misplaced", { received: "a token in the header, and another one in the form" });
    return readHeader(header);
  }
  if (takesSigned && form.has("oauth_signature")) return { kind: "signed", place: "form" };
  if (token === undefined) return refuseNothing(call);
  if (!takesForms)
    fail("guard.token-misplaced", { received: "the parameter access_token in the form", because: "form" });
  if (all.length > 1)
    fail("guard.credentials-malformed", { received: `${all.length} tokens in the form`, because: "several" });
  return readHeader(`Bearer ${token}`);
}

function refuseNothing(call: IncomingCall): never {
  const hasCookie = call.header("cookie") !== undefined;
  return fail("guard.token-missing", {
    received: hasCookie ? "no Authorization header, and a cookie" : "no Authorization header",
    because: hasCookie ? "cookie" : undefined,
  });
}

function readHeader(header: string): Credentials {
  const [beginning = "", scheme] = tokenScheme.exec(header) ?? [];
  const token = header.slice(beginning.length);
  if (scheme === undefined) return refuseHeader(header);
  return { kind: "token", scheme: scheme.toLowerCase() === "dpop" ? "dpop" : "bearer", token, header };
}

/**
 * Looks a token's form through.
 *
 * @throws guard.token-unreadable, guard.credentials-malformed
 */
export function requireToken({ token, header }: TokenCredentials): void {
  if (!isToken(token)) refuseHeader(header);
  // What a variable without a value becomes in a text.
  if (/^(undefined|null|NaN|false)$/.test(token))
    fail("guard.token-unreadable", { received: `the word ${token} in the token's place`, because: "word" });
}

function refuseHeader(header: string): never {
  const [, other = "", rest = ""] = /^([^ ,]*) *(.*)$/s.exec(header) ?? [];
  if (!/^(bearer|dpop)$/i.test(other)) {
    // What stands in the scheme's place may be a token: it is not repeated.
    const isName = /^[A-Za-z-]{1,20}$/.test(other) && rest !== "";
    const stuck = /^(?:bearer|dpop)(?=e)/i.exec(other);
    fail("guard.token-missing", {
      received: isName
        ? `the scheme ${quoted(other, 20)}`
        : stuck
          ? `${stuck[0]}, and ${other.length - stuck[0].length} characters right behind it`
          : "an Authorization header without a scheme",
      because: stuck && !isName ? "no-space" : "scheme",
    });
  }
  const inner = rest.trim();
  return fail("guard.credentials-malformed", {
    received: `the scheme ${other}, and ${inner.length} characters that are no token`,
    because:
      inner === ""
        ? "scheme-alone"
        : /^["'`].*["'`]$/s.test(inner)
          ? "quotes"
          : /, *(bearer|dpop) /i.test(inner)
            ? "several"
            : /^(bearer|dpop) /i.test(inner)
              ? "scheme-twice"
              : inner === "[object Object]"
                ? "object"
                : /%[0-9a-f]{2}/i.test(inner)
                  ? "encoded"
                  : undefined,
  });
}

/** What a server asks for before it answers: RFC 9110 section 11.6.1. */
export interface Challenge {
  /** In small letters, for it is compared without regard to case: `bearer`, `dpop`, … */
  readonly scheme: string;
  /** Its parameters, names in small letters; none where a single value stands in their place. */
  readonly parameters: Readonly<Record<string, string>>;
  /** What stands in place of parameters, where it does. */
  readonly token68?: string;
}

const longestHeader = 16 * 1024;
const mostChallenges = 20;

/**
 * Reads a `WWW-Authenticate` header: every challenge in it, of whichever scheme, up to where it is malformed. One that
 * names a parameter twice is left out (the strict reading of RFC 9110 section 11.2: no name more than once).
 *
 * @param header undefined and null for none
 */
export function parseChallenges(header: string | null | undefined): readonly Challenge[] {
  const found: Challenge[] = [];
  if (header == null || header.length > longestHeader) return found;
  const scan = createScanner(header);
  while (found.length < mostChallenges) {
    scan(/[ \t,]*/y);
    const scheme = scan(/[!#$%&'*+.^_`|~\w-]+(?=[ \t,]|$)/y)?.[0].toLowerCase();
    if (scheme === undefined) return found;
    // 11.3: a scheme alone, or a space and a single value, or a space and parameters.
    const token68 = scan(/ +([A-Za-z0-9\-._~+/]+=*)[ \t]*(?=,|$)/y)?.[1];
    if (token68 !== undefined) {
      found.push({ scheme, parameters: {}, token68 });
      continue;
    }
    const pairs: (readonly [string, string])[] = [];
    if (scan(/ +/y)) {
      for (;;) {
        const pair = scan(
          /([!#$%&'*+.^_`|~\w-]+)[ \t]*=[ \t]*(?:"((?:[^"\\]|\\[^])*)"|([!#$%&'*+.^_`|~\w-]+))[ \t]*(?=,|$)/y,
        );
        if (!pair) break;
        const [, name = "", text, token = ""] = pair;
        pairs.push([name.toLowerCase(), text?.replace(/\\([^])/g, "$1") ?? token]);
        scan(/[ \t,]*/y);
      }
    }
    // Neither alone nor followed by anything that can be read.
    if (pairs.length === 0 && !scan(/[ \t]*(?=,|$)/y)) return found;
    const parameters = Object.fromEntries(pairs);
    if (Object.keys(parameters).length === pairs.length) found.push({ scheme, parameters });
  }
  return found;
}

/** Matches at the place where the last match ended, each time. */
function createScanner(text: string): (pattern: RegExp) => RegExpExecArray | undefined {
  let at = 0;
  return (pattern) => {
    pattern.lastIndex = at;
    const match = pattern.exec(text);
    if (!match) return undefined;
    at = pattern.lastIndex;
    return match;
  };
}

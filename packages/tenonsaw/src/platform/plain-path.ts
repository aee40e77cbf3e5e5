/**
 * What some server could read in another way: a slash, a dot or an end of text that is encoded, however many times over, or as
 * UTF-8 has it too long (RFC 3629 section 3); a back slash, an empty part, a control character; and a part that leads up, also
 * with parameters behind it (RFC 3986 section 3.3), which some take off first.
 */
const odd = /\\|\/\/|%(25)*(2f|5c|2e|00)|%([01].|7f|c[01]|e0%[89]|f0%8)|(^|\/)\.\.?(;|%3b|\/|$)/i;

/** Whether every server reads a path in the same way. */
export function isPlainPath(path: string): boolean {
  return !odd.test(path);
}

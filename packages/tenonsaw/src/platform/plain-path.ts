/** A slash, a dot or an end of text that is encoded, however many times over; a back slash; an empty part; a control character. */
const disguised = /\\|\/\/|%(25)*(2f|5c|2e|00)|%[01][0-9a-f]|%7f/i;
/** A part that leads up, also with parameters behind it (RFC 3986 section 3.3), which some servers take off first. */
const leadsUp = /(^|\/)\.{1,2}(;|%3b|\/|$)/i;

/** Whether every server reads a path in the same way: what one behind could take apart once more does not count as one path. */
export function isPlainPath(path: string): boolean {
  if (disguised.test(path) || leadsUp.test(path)) return false;
  try {
    // Bytes that are no UTF-8 may be a dot or a slash to some.
    decodeURIComponent(path);
    return true;
  } catch {
    return false;
  }
}

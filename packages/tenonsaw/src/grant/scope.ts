/** Whether a text is a scope: RFC 6749 section 3.3. */
export function isScope(text: string): boolean {
  return /^[\x21\x23-\x5b\x5d-\x7e]+( [\x21\x23-\x5b\x5d-\x7e]+)*$/.test(text);
}

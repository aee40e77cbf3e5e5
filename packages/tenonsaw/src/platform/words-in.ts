/** What a text names, separated by spaces, however many: scopes (RFC 6749 section 3.3), classes of authentication. */
export function wordsIn(text = ""): readonly string[] {
  return text.split(" ").filter((each) => each !== "");
}

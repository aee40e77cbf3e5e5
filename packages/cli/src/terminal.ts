/**
 * What this command prints itself: text, line ends, and the colours that picocolors sets. Everything else that a terminal
 * would act on came from outside, and is shown as its code.
 */
const own = /\u001b\[(?:0|1|2|22|3[1-6]|39)m|[\n\t]/;
const acting = /[\u0000-\u001f\u007f-\u009f\u2028\u2029\u200e\u200f\u061c\u202a-\u202e\u2066-\u2069]/;
const either = new RegExp(`${own.source}|${acting.source}`, "g");

/** @param isJson then it is shown as JSON spells it */
export function shownInTerminal(text: string, isJson: boolean): string {
  return text.replace(either, (found) => {
    if (found.length > 1 || found === "\n" || found === "\t") return found;
    const code = found.charCodeAt(0).toString(16).padStart(4, "0");
    return isJson || code.length > 4 || !code.startsWith("00") ? `\\u${code}` : `\\x${code.slice(2)}`;
  });
}

/** From now on everything that goes to standard output, and problems that go to standard error, pass through here. */
export function guardTerminal(isJson: boolean): void {
  const { stdout } = process;
  const write = stdout.write.bind(stdout);
  stdout.write = (chunk: string | Uint8Array, ...rest: never[]) =>
    write(typeof chunk === "string" ? shownInTerminal(chunk, isJson) : chunk, ...rest);
}

/** What was pasted, without what came along when it was copied; and what that was. */
export interface Unwrapped {
  readonly text: string;
  /** What was taken off, in words. */
  readonly mended: readonly string[];
}

const headerLine = /^(www-authenticate|authorization|proxy-authenticate|location|dpop):\s*/i;

/**
 * Picks out of a command for curl, an HTTP message or a header line what there is to explain, and takes quotes off. These
 * are told: where the app sends them along, they are the mistake.
 */
export function unwrap(pasted: string): Unwrapped {
  const whole = pasted.trim();
  const picked = fromCurl(whole) ?? fromMessage(whole) ?? whole;
  const bare = picked.replace(headerLine, "").trim();
  const text = bare.replace(/^(["'`])(.*)\1$/s, "$2").trim();
  return { text, mended: text === bare ? [] : ["quotes around it"] };
}

/** The token of a command for curl, or else the address that it asks. */
function fromCurl(text: string): string | undefined {
  if (!/^curl\s/.test(text)) return undefined;
  const header = /(['"])(?:authorization|dpop):\s*([^'"]+)\1/i.exec(text)?.[2];
  return header ?? /https?:\/\/[^\s'"]+/i.exec(text)?.[0];
}

/** Of a request or an answer as it is on the wire (RFC 9112 section 2.1): what says why, or whose it is. */
function fromMessage(text: string): string | undefined {
  const isAnswer = /^HTTP\/[\d.]+ \d{3}/.test(text);
  if (!isAnswer && !/^[A-Z]{3,7} \S+ HTTP\/[\d.]+/.test(text)) return undefined;
  const [head = "", ...rest] = text.split(/\r?\n\r?\n/);
  const body = rest.join("\n\n").trim();
  const lines = head.split(/\r?\n/).slice(1);
  const valueOf = (name: RegExp) => lines.find((line) => name.test(line))?.replace(/^[^:]*:\s*/, "");
  if (body.startsWith("{") && /"(error|access_token|client_id)"/.test(body)) return body;
  const found = valueOf(/^(www-authenticate|authorization):/i) ?? valueOf(/^location:/i);
  return found ?? (body === "" ? undefined : body);
}

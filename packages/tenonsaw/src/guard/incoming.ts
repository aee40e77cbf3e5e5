import { limits } from "../platform/index.js";
import { readForm, unfitRequest, type Tools } from "../trace/index.js";

/** A call as the guard looks at it: of the web's Request, or of what a framework has. */
export interface IncomingCall {
  readonly method: string;
  /** What stands for this request and no other, such as the framework's own object. Default: the call itself. */
  readonly source?: object;
  /** Whole, or path and query. */
  readonly url: string;
  /** A header by its name in small letters; where it came several times, joined by commas (RFC 9110 section 5.3). */
  header(name: string): string | undefined;
  /** The certificate of whoever called, DER, where the connection knows it. */
  certificate(): Uint8Array | undefined;
  /** The form that the call carries, without taking it from whoever comes after. */
  form(): Promise<URLSearchParams>;
}

/** A Request as a call. Its body stays for the handler. */
export function callOf(tools: Tools, request: Request): IncomingCall {
  const unfit = unfitRequest(request);
  if (unfit) throw unfit;
  const { method, url, headers } = request;
  return {
    source: request,
    method,
    url,
    header: (name) => headers.get(name) ?? undefined,
    certificate: () => undefined,
    form: () => readForm(tools, request.bodyUsed ? request : request.clone(), limits.callForm),
  };
}

/** Whether a call carries a form (RFC 6750 section 2.2: of one part, and not with GET). */
export function carriesForm(call: Pick<IncomingCall, "method" | "header">): boolean {
  if (call.method === "GET" || call.method === "HEAD") return false;
  const [type = ""] = (call.header("content-type") ?? "").split(";");
  return type.trim().toLowerCase() === "application/x-www-form-urlencoded";
}

/** The query of an address, without the question mark. */
export function queryOf(url: string): string {
  const at = url.indexOf("?");
  const end = url.indexOf("#");
  return at < 0 ? "" : url.slice(at + 1, end < 0 ? undefined : end);
}

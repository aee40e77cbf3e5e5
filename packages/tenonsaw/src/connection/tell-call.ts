import { fingerprint, redactUrl, type Tools } from "../trace/index.js";

/** A call of an API that was answered. */
interface AnsweredCall {
  /** Seconds since the epoch, and how many it took. */
  readonly startedAt: number;
  readonly durationSeconds: number;
  readonly method: string;
  readonly url: string;
  readonly status: number;
  /** Where the API is, at a host. */
  readonly base: string | undefined;
}

/** Tells the trace of a call of an API. */
export async function tellCall(
  tools: Tools,
  { startedAt, durationSeconds, method, url, status, base }: AnsweredCall,
): Promise<void> {
  const { platform, trace } = tools;
  trace?.({
    kind: "leg",
    at: startedAt,
    station: "connection",
    leg: "API request",
    method,
    url: base === undefined ? await redactUrl(platform, url) : await redactRecord(tools, base, url),
    sent: {},
    status,
    received: {},
    durationSeconds,
  });
}

/** A host's records are about people: of an address no more is shown than what kind of record it is. */
async function redactRecord({ platform }: Tools, base: string, url: string): Promise<string> {
  const { origin, pathname, searchParams } = new URL(url);
  const [kind = "", ...rest] = pathname.slice(new URL(base).pathname.length + 1).split("/");
  const shown = new URL(`${base}/${kind}${rest.length > 0 ? "/…" : ""}`, origin);
  for (const [name, value] of searchParams)
    shown.searchParams.append(name, await fingerprint(platform, value));
  return decodeURI(shown.href);
}

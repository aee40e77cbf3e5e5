import { parseUrl } from "../platform/index.js";
/** As many as any API needs. */
const mostRedirects = 5;

/**
 * Sends a call and follows redirects (RFC 9110 section 15.4) as long as they stay at its origin: nothing that goes along
 * is sent anywhere else. A redirect that leads elsewhere, or wants a body that cannot be sent again, is returned as it
 * is; so is every one with `redirect: "manual"`.
 *
 * @param holds which URLs of that origin may be called, and by which method, where not all may be
 */
export async function followWithin(
  url: string,
  init: RequestInit,
  send: (url: string, init: RequestInit) => Promise<Response>,
  holds?: (url: URL, method: string) => boolean,
): Promise<Response> {
  let [at, request] = [url, init];
  for (let hops = 0; ; hops += 1) {
    const response = await send(at, request);
    const next = init.redirect === "manual" ? undefined : nextRequest(response, at, request, holds);
    if (!next || hops === mostRedirects) return response;
    await response.body?.cancel();
    [at, request] = next;
  }
}

function nextRequest(
  { status, headers }: Response,
  at: string,
  init: RequestInit,
  holds: ((url: URL, method: string) => boolean) | undefined,
): [string, RequestInit] | undefined {
  const location = headers.get("location");
  if (![301, 302, 303, 307, 308].includes(status) || location === null) return undefined;
  const url = parseUrl(location, at);
  if (url?.origin !== new URL(at).origin) return undefined;
  const method = init.method?.toUpperCase() ?? "GET";
  const becomesGet = status === 303 ? method !== "HEAD" : status < 303 && method === "POST";
  if (holds?.(url, becomesGet ? "GET" : method) === false) return undefined;
  if (!becomesGet) return init.body instanceof ReadableStream ? undefined : [url.href, init];
  const { body: _sentOnce, ...rest } = init;
  const kept = new Headers(init.headers);
  for (const name of ["content-type", "content-length", "content-encoding", "content-language"])
    kept.delete(name);
  return [url.href, { ...rest, method: "GET", headers: kept }];
}

import { fail, quoted } from "../problem/index.js";
import type { ConnectionRecord } from "../session/index.js";
import { redactUrl, type Tools } from "../trace/index.js";
import { freshConnection, unsealToken, type Connecting } from "./fresh-connection.js";

/** An API the app may call: whose tokens it takes, and the one origin they may go to. */
export interface Api {
  readonly provider: string;
  readonly origin: string;
  /** Scope of the app's own access tokens, for calls without a person. */
  readonly clientScope?: string | undefined;
}

/** An API has half a minute to begin its answer, unless the caller brings a signal of their own. */
const deadlineSeconds = 30;

/**
 * Calls an API with the person's access token (RFC 6750 section 2.1). The token goes to the API's declared origin
 * only; a redirect is returned, not followed. A token that is refused is renewed once, and the call repeated, if its
 * body can be sent again.
 *
 * @param path a path at the API's origin, or a whole URL there
 * @throws connection.other-origin, and what freshConnection throws; like fetch, rejects with a TypeError when the API
 *   cannot be reached
 */
export async function authorisedFetch(
  connecting: Connecting,
  sessionId: string,
  api: Api,
  path: string,
  init: RequestInit = {},
): Promise<Response> {
  const url = resolveApiUrl(api, path);
  const connection = await freshConnection(connecting, sessionId, api.provider);
  const call = async (holding: ConnectionRecord) =>
    callWith(connecting.tools, (await unsealToken(connecting, holding, "access-token")) ?? "", url, init);
  const response = await call(connection);
  // Without a refresh token there is nothing to renew with: the refusal is the caller's.
  const canRepeat = connection.sealedRefreshToken !== undefined && !(init.body instanceof ReadableStream);
  if (response.status !== 401 || !canRepeat) return response;
  const renewed = await freshConnection(connecting, sessionId, api.provider, connection.version);
  if (renewed.version === connection.version) return response;
  await response.body?.cancel();
  return call(renewed);
}

/** One call with an access token; told to the trace without it. */
export async function callWith(
  tools: Tools,
  accessToken: string,
  url: string,
  init: RequestInit,
): Promise<Response> {
  const headers = new Headers(init.headers);
  headers.set("authorization", `Bearer ${accessToken}`);
  const { platform, trace } = tools;
  const startedAt = platform.now();
  const response = await platform.fetch(url, {
    ...init,
    headers,
    redirect: "manual",
    signal: init.signal ?? platform.deadline(deadlineSeconds),
  });
  trace?.({
    kind: "leg",
    at: startedAt,
    station: "connection",
    leg: "API request",
    method: init.method ?? "GET",
    url: await redactUrl(platform, url),
    sent: {},
    status: response.status,
    received: {},
    durationSeconds: platform.now() - startedAt,
  });
  return response;
}

export function resolveApiUrl(api: Api, path: string): string {
  const url = URL.canParse(path, api.origin) ? new URL(path, api.origin) : undefined;
  if (url?.origin !== api.origin) {
    fail("connection.other-origin", {
      received: quoted(path),
      expected: `a path, or a URL at ${api.origin}`,
    });
  }
  return url.href;
}

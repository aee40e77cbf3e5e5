import { beginSignIn } from "../attempt/index.js";
import { hashId, randomId, seal } from "../session/index.js";
import { note, redactUrl } from "../trace/index.js";
import { routes, type Context } from "./context.js";
import { readReturnPath } from "./return-path.js";

/** The browser cookie lasts as long as the longest attempt; beginning again renews it. */
const browserCookieSeconds = 3600;

/**
 * Begins a sign-in and sends the browser to the provider. The attempt is kept sealed in the store, found again by
 * the hash of its state and bound to this browser by one cookie, however many attempts are open.
 *
 * @throws provider.unknown, server.return-path-refused, provider.*, platform.*, store.unavailable
 */
export async function beginRoute(context: Context, request: Request, name: string): Promise<Response> {
  const { tools, store, ring, settings, cookies, answers } = context;
  const { platform } = tools;
  const url = new URL(request.url);
  const returnTo = readReturnPath(settings.origin, url.searchParams.get("returnTo"));
  const provider = await context.providers.open(name);
  noteOtherHost(context, request);
  const begun = await beginSignIn(provider, { redirectUri: routes(settings).callback(name) });
  const browser = cookies.read(request, "browser") ?? randomId(platform, 32);
  const id = await hashId(platform, begun.attempt.state);
  await context.sweep();
  await store.addAttempt({
    id,
    browserHash: await hashId(platform, browser),
    provider: name,
    host: hostOf(request),
    returnTo,
    sealedAttempt: await seal(tools, ring, attemptPlace(id), JSON.stringify(begun.attempt)),
    beganAt: begun.attempt.beganAt,
    expiresAt: begun.attempt.expiresAt,
  });
  if (tools.trace) note(tools, "server", `sent to ${name}: ${await redactUrl(platform, begun.url)}`);
  return answers.redirect(begun.url, [cookies.write("browser", browser, browserCookieSeconds)]);
}

/**
 * Tells the developer, before the sign-in goes wrong, that the browser is somewhere else than `origin` says: at another
 * name of this machine, or behind a proxy that nobody put into the settings. Headers of proxies are believed for this
 * hint only; nothing is derived from them.
 */
function noteOtherHost({ tools, settings }: Context, request: Request): void {
  if (!tools.trace || settings.proxies) return;
  const own = new URL(settings.origin);
  const host = request.headers.get("x-forwarded-host") ?? hostOf(request);
  const scheme = request.headers.get("x-forwarded-proto") ?? own.protocol.slice(0, -1);
  if (host === own.host && `${scheme}:` === own.protocol) return;
  note(tools, "server", "the browser is not at `origin`, so the sign-in will come back elsewhere", {
    browser: `${scheme}://${host}`.slice(0, 200),
    origin: settings.origin,
  });
}

export function attemptPlace(id: string): string {
  return `attempt/${id}`;
}

/** Host and port as the browser addressed them. */
export function hostOf(request: Request): string {
  return request.headers.get("host") ?? new URL(request.url).host;
}

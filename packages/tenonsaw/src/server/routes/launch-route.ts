import { findHost, requireLaunchValue } from "../../launch/index.js";
import { limits } from "../../platform/index.js";
import { fail, quoted } from "../../problem/index.js";
import { randomId } from "../../session/index.js";
import { readForm } from "../../trace/index.js";
import { withParameter } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import { requireOwnPage } from "../door/own-page.js";
import { readReturnPath } from "../door/return-path.js";
import { framePage } from "../pages/pages.js";
import { isFramed, launchMarkOf, useLaunchValue } from "../sessions/launched.js";
import { declaredHosts, hostBase, launchKind, nameWithTenant } from "../settings/hosts.js";
import { beginAttempt } from "./begin-route.js";
import { callbackRoute } from "./callback-route.js";

/**
 * A host opens this app (SMART App Launch 2.2, EHR Launch), or somebody sends a person here to sign in (OpenID Connect Core 1.0
 * section 4). Whoever made the link, it opens no more than a trip to a host that the settings declare, and nothing leaves
 * before that is known.
 *
 * @throws launch.host-unknown, launch.parameters-refused, launch.value-used, launch.capability-missing,
 *   server.return-path-refused, provider.*, platform.*, store.unavailable
 */
export async function launchRoute(context: Context, request: Request): Promise<Response> {
  const { tools, settings, cookies, answers, store } = context;
  const url = new URL(request.url);
  if (request.method === "POST") {
    // A post from another site comes without cookies: the browser comes again by itself.
    const form = await readForm(tools, request, limits.ownForm);
    return answers.redirect(`${url.pathname}?${form.toString()}`);
  }
  const { iss, launch, target, hint } = readParameters(url.searchParams);
  const isLaunch = launch !== undefined;
  if (isLaunch) requireLaunchValue(launch);
  const name = nameWithTenant(findHost(declaredHosts(settings, isLaunch), iss));
  const host = hostBase(settings, name);
  const home = host ? settings.pages.launched : settings.pages.signedIn;
  const returnTo = readTarget(settings.origin, target, home);
  const wish = { ...(isLaunch && { launch }), ...(hint !== undefined && { loginHint: hint }) };
  const isInFrame = host !== undefined && isFramed(request);
  const own = cookies.read(request, "launch");
  if (isInFrame && own === undefined && !url.searchParams.has(askedMark)) {
    // Whether this frame keeps a cookie shows when the browser comes once more.
    const { lifetimeSeconds } = context.limitsOf(launchKind);
    const asking = cookies.write("launch", randomId(tools.platform, 32), lifetimeSeconds, true);
    return answers.redirect(withParameter(url.pathname + url.search, askedMark, "1"), [asking]);
  }
  const key = isInFrame && own === undefined ? randomId(tools.platform, 32) : undefined;
  const mark = isLaunch ? await launchMarkOf(context, iss ?? "", launch) : undefined;
  const begun = await beginAttempt(
    context,
    request,
    name,
    returnTo,
    wish,
    {
      ...(host && { sessionKind: launchKind }),
      ...(mark !== undefined && key !== undefined && { launchMark: mark }),
    },
    key,
  );
  if (
    mark !== undefined &&
    !(await useLaunchValue(context, mark, key === undefined ? "used" : "begun in a frame"))
  ) {
    await store.useAttempt(begun.id, tools.platform.now());
    fail("launch.value-used", { received: `a launch of ${quoted(iss)} that has been here before` });
  }
  if (key === undefined) return answers.redirect(begun.url, begun.cookies);
  const aside = url.pathname + url.search;
  return answers.passing(framePage(context.wordingOf(request), { key, goTo: begun.url, aside }));
}

/** A second request of a frame, which shows whether it kept the cookie of the first. */
const askedMark = "again";

/** Each once: of two values nobody can say which one the host meant. */
function readParameters(parameters: URLSearchParams) {
  const single = (name: string) => {
    const all = parameters.getAll(name);
    if (all.length > 1)
      fail("launch.parameters-refused", {
        received: `${name} ${all.length} times`,
        expected: `${name} once`,
      });
    return all[0];
  };
  const hint = single("login_hint");
  if (hint !== undefined && (hint.length > limits.loginHint || /\p{Cc}/u.test(hint)))
    fail("launch.parameters-refused", {
      received: `login_hint of ${hint.length} characters`,
      expected: `at most ${limits.loginHint} characters, none of them a control character`,
    });
  return { iss: single("iss"), launch: single("launch"), target: single("target_link_uri"), hint };
}

/** OpenID Connect Core 1.0 section 4: a page of this app, or this would lead people anywhere. */
function readTarget(origin: string, target: string | undefined, home: string): string {
  if (target === undefined || target === "") return home;
  return readReturnPath(origin, target.startsWith(`${origin}/`) ? target.slice(origin.length) : target, home);
}

/**
 * A frame that keeps no cookie brings what the host has answered, with the key that it has kept itself.
 *
 * @throws session.other-origin, launch.frame-without-storage, and what the callback throws
 */
export async function launchBackRoute(context: Context, request: Request): Promise<Response> {
  requireOwnPage(context, request);
  const form = await readForm(context.tools, request, limits.postedAnswer);
  const [name, answer, key] = ["host", "answer", "key"].map((each) => form.get(each) ?? "");
  if (!/^[A-Za-z0-9_-]{43}$/.test(key ?? ""))
    fail("launch.frame-without-storage", { received: "a frame without the key that it was given" });
  return callbackRoute(context, request, name ?? "", {
    key: key ?? "",
    received: new URLSearchParams(answer),
  });
}

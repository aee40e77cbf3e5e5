import { isProblem, ProblemError } from "../../problem/index.js";
import { causesOf, errorOf, note, problemOf, unfitRequest } from "../../trace/index.js";
import { routes, wantsJson, withParameter } from "../context/addresses.js";
import { nameOf } from "../door/address-of.js";
import type { Context } from "../context/context.js";
import { pointAtSetting } from "../settings/point-at-setting.js";
import type { SettingPlaces } from "../settings/settings-types.js";
import { problemPage, type ForDevelopers } from "../pages/pages.js";

/** By the request: one error may be told to several visitors, and each goes back to a page of their own. */
const retries = new WeakMap<Request, string>();

/** Where "try again" leads when a request fails: to the same sign-in, and back to the same page after it. */
export function retryAt(request: Request, href: string): void {
  retries.set(request, href);
}

export type Explain = (error: unknown, request?: Request) => Response;

/** Tells what went wrong: in full in development, in general otherwise; as data to a front end; and to the app's log. */
export function createExplain(common: Context, places: SettingPlaces | undefined): Explain {
  const { settings: resolved, answers, tools } = common;
  return (thrown, given) => {
    // What is to be explained counts for more than what it was to be explained by.
    const unfit = given && unfitRequest(given);
    if (unfit) tools.report?.(unfit, "explaining a problem");
    const request = unfit ? undefined : given;
    const error = hasGone(thrown, request)
      ? new ProblemError("server.body-broken", { received: "a browser that has gone", cause: thrown })
      : errorOf(thrown);
    const raised = problemOf(error);
    const problem = resolved.development ? pointAtSetting(raised, resolved, places) : raised;
    const headers: Record<string, string> = {
      // A page's script that called an API through here sees that this is not the API's answer.
      "tenonsaw-problem": problem.code,
      ...(problem.retryAfterSeconds !== undefined && { "retry-after": String(problem.retryAfterSeconds) }),
      // RFC 9110 section 15.5.6: which methods there are.
      ...(problem.code === "server.method-refused" && { allow: problem.expected }),
    };
    note(tools, "server", "problem", { problem: problem.code, received: problem.received ?? "" });
    tools.report?.(error, request ? nameOf(request) : "a request");
    const { code, status } = problem;
    // What is about a request is told to who made it; what is wrong inside is told to its developers.
    const because = status < 500 ? problem.because : undefined;
    if (request && wantsJson(request)) {
      return answers.json(
        { kind: "failed", problem: resolved.development ? problem : { code, status, because } },
        status,
        [],
        headers,
      );
    }
    const { failed } = resolved.pages;
    // The app's own page is told the code only; in development the whole problem is worth more. A page that fails itself
    // is not sent to itself.
    const isThatPage = (page: string) =>
      request && new URL(page, resolved.origin).pathname === new URL(request.url).pathname;
    if (failed !== undefined && !resolved.development && !isThatPage(failed)) {
      return answers.redirect(withParameter(failed, "problem", code));
    }
    const stack =
      isProblem(error) || !resolved.development ? undefined : [error.stack, ...causesOf(error)].join("\n");
    return answers.page(
      problemPage(common.wordingOf(request), problem, {
        retry:
          (request && retries.get(request)) ??
          (common.ownPersonOf ? resolved.pages.signedIn : routes(resolved).chooser),
        development: forDevelopers(common, stack),
      }),
      status,
      headers,
    );
  };
}

/** Whoever goes away while their request is read has not found a mistake of the app's. */
function hasGone(thrown: unknown, request: Request | undefined): boolean {
  return (
    request?.signal.aborted === true && (thrown as { readonly name?: unknown } | null)?.name === "AbortError"
  );
}

/** In development only: where to see more. */
export function forDevelopers(
  { settings, recorder }: Pick<Context, "settings" | "recorder">,
  stack?: string,
): ForDevelopers | undefined {
  if (!settings.development) return undefined;
  return { stack, trace: recorder && routes(settings).trace };
}

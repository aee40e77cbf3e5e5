import type { ProblemError } from "../../problem/index.js";
import { note } from "../../trace/index.js";
import { routes, wantsJson, withParameter } from "../context/addresses.js";
import type { Context } from "../context/context.js";
import { pointAtSetting } from "../settings/point-at-setting.js";
import type { SettingPlaces } from "../settings/settings-types.js";
import { problemPage } from "../pages/pages.js";

export type Explain = (error: ProblemError, request?: Request) => Response;

/** Tells a problem: in full in development, in general otherwise; as data to a front end. */
export function createExplain(common: Context, places: SettingPlaces | undefined): Explain {
  const { settings: resolved, answers } = common;
  return (error, request) => {
    const problem = resolved.development ? pointAtSetting(error.problem, resolved, places) : error.problem;
    const retry: Record<string, string> = {
      ...(problem.retryAfterSeconds !== undefined && { "retry-after": String(problem.retryAfterSeconds) }),
      // RFC 9110 section 15.5.6: which methods there are.
      ...(problem.code === "server.method-refused" && { allow: problem.expected }),
    };
    note(common.tools, "server", "problem", { problem: problem.code, received: problem.received ?? "" });
    const { code, status } = problem;
    if (request && wantsJson(request)) {
      return answers.json(
        { kind: "failed", problem: resolved.development ? problem : { code, status } },
        status,
        [],
        retry,
      );
    }
    const { failed } = resolved.pages;
    // The app's own page is told the code only; in development the whole problem is worth more.
    if (failed !== undefined && !resolved.development) {
      return answers.redirect(withParameter(failed, "problem", code));
    }
    const wording = common.wordingOf(request);
    return answers.page(
      problemPage(wording, problem, routes(resolved).chooser, resolved.development),
      status,
      retry,
    );
  };
}

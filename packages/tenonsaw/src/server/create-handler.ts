import { isUrl } from "../platform/index.js";
import { isProblem } from "../problem/index.js";
import { shownPath } from "./settings/hosts.js";
import { pathBelow, wantsJson } from "./context/addresses.js";
import type { Context } from "./context/context.js";
import { admitRate } from "./door/admit-rate.js";
import type { AtRequest } from "./open-context.js";
import type { Explain } from "./routes/explain.js";
import { requireFit, unfitRequest } from "../trace/index.js";
import { route } from "./routes/route.js";

/** What answers the library's own routes. */
export interface Handler {
  /** Answers them; undefined for every other address. */
  handle(request: Request): Promise<Response | undefined>;
  /**
   * Whether an address, or a path with its query, is one of them.
   *
   * @throws server.unfit-argument
   */
  answers(address: string): boolean;
  /**
   * Whether this process can serve: for a health check. Asks the store and no provider, which may be away without this app
   * being so.
   *
   * @throws store.unavailable
   */
  ready(): Promise<void>;
}

export function createHandler(
  common: Context,
  at: (request: Request, isAnswered?: boolean) => AtRequest,
  explain: Explain,
): Handler {
  const { basePath, origin } = common.settings;
  const answerAt = async (request: Request, path: string): Promise<Response> => {
    let changes: () => readonly string[] = () => [];
    const answer = async () => {
      try {
        const reached = at(request, true);
        changes = reached.changes;
        await admitRate(common, request, path, reached.peer);
        return await route(reached.context, request, path);
      } catch (error) {
        if (!isProblem(error)) throw error;
        return explain(error, request);
      }
    };
    const { ways } = common;
    const isQuiet = ways === undefined || ["/trace", "/session", "/session/events"].includes(path);
    const title = `${request.method} ${basePath}${shownPath(path, common.settings)}`;
    const response = await (isQuiet ? answer() : ways.run(title, answer));
    for (const cookie of changes()) response.headers.append("set-cookie", cookie);
    const { status, headers } = response;
    // A front end goes where it is told by itself: a redirect to another origin would fail in its own `fetch`.
    if (status === 303 && wantsJson(request)) {
      const cookies = headers.getSetCookie();
      return common.answers.json({ goTo: headers.get("location") }, 200, cookies);
    }
    return request.method === "HEAD" ? new Response(null, { status, headers }) : response;
  };
  return {
    handle(request) {
      const unfit = unfitRequest(request);
      if (unfit) return Promise.reject(unfit);
      const path = pathBelow(basePath, request.url);
      if (path === undefined) return notOurs;
      common.reach.reached();
      return answerAt(request, path);
    },
    answers: (address) => {
      requireFit(address, (given) => typeof given === "string", "an address, or a path with its query");
      const url = address.startsWith("/") ? origin + address : address;
      return isUrl(url) && pathBelow(basePath, url) !== undefined;
    },
    ready: async () => {
      await common.store.isMarked("ready", common.tools.platform.now());
    },
  };
}

const notOurs = Promise.resolve(undefined);

import { parseSetCookie, stringifyCookie } from "cookie";
import { parse, type HTMLElement } from "node-html-parser";

/** What a visitor sees. */
export interface VisitedPage {
  readonly url: string;
  readonly status: number;
  readonly headers: Headers;
  readonly text: string;
  /** Every address on the way here, the last one included. */
  readonly trail: readonly string[];
}

/**
 * A browser without a screen, for tests: keeps cookies by host, follows redirects, follows links and submits forms
 * by the text that a person would press. It runs no script.
 */
export interface Visitor {
  /** Goes to an address, with further request headers if need be. */
  open(url: string, headers?: Readonly<Record<string, string>>): Promise<VisitedPage>;
  /** Presses the button or link on the current page whose text begins with `text`. */
  press(text: string): Promise<VisitedPage>;
  /** Sends a form by hand, as if from the page of `origin`. */
  post(url: string, fields: Readonly<Record<string, string>>, origin?: string): Promise<VisitedPage>;
  /** One request with the visitor's cookies, as a script would send it; no redirect is followed. */
  fetch(url: string, init?: RequestInit): Promise<Response>;
  /** Cookies by host name. */
  readonly cookies: Map<string, Map<string, string>>;
  /** The page at hand; undefined before the first. */
  readonly page: VisitedPage | undefined;
}

const mostRedirects = 20;

/** What `fetch` says of it is that it failed. */
function codeOf(error: unknown): string {
  const { cause, message } = error as Error;
  const { code } = (cause ?? {}) as { readonly code?: unknown };
  return typeof code === "string" ? code : message;
}

function wasReset(error: unknown): boolean {
  return ["ECONNRESET", "UND_ERR_SOCKET"].includes(codeOf(error));
}

export function createVisitor(): Visitor {
  const cookies = new Map<string, Map<string, string>>();
  let page: VisitedPage | undefined;

  const send = async (url: string, init: RequestInit = {}): Promise<Response> => {
    const { hostname } = new URL(url);
    const jar = cookies.get(hostname) ?? new Map<string, string>();
    cookies.set(hostname, jar);
    const headers = new Headers(init.headers);
    if (jar.size > 0) headers.set("cookie", stringifyCookie(Object.fromEntries(jar)));
    const ask = () => fetch(url, { ...init, headers, redirect: "manual" });
    // A server ends a connection that was not used for a while: what is sent over it just then is sent again, as browsers do
    // (RFC 9110 section 9.2.2: what changes nothing).
    const isRead = (init.method ?? "GET") === "GET";
    const response = await ask()
      .catch((error: unknown) => {
        if (!isRead || !wasReset(error)) throw error;
        return ask();
      })
      .catch((error: unknown) => {
        throw new Error(`No answer from ${new URL(url).origin}: ${codeOf(error)}`, { cause: error });
      });
    for (const line of response.headers.getSetCookie()) {
      const { name, value, maxAge } = parseSetCookie(line);
      if (value === undefined || value === "" || maxAge === 0) jar.delete(name);
      else jar.set(name, value);
    }
    return response;
  };

  const travel = async (first: string, firstInit: RequestInit = {}): Promise<VisitedPage> => {
    const asPage = (init: RequestInit): RequestInit => {
      const headers = new Headers(init.headers);
      if (!headers.has("accept")) headers.set("accept", "text/html");
      return { ...init, headers };
    };
    const trail: string[] = [];
    let [url, init] = [first, firstInit];
    while (trail.length <= mostRedirects) {
      trail.push(url);
      const response = await send(url, asPage(init));
      const location = response.headers.get("location");
      const text = await response.text();
      if (response.status < 300 || response.status >= 400 || location === null) {
        page = { url, status: response.status, headers: response.headers, text, trail };
        return page;
      }
      [url, init] = [new URL(location, url).href, {}];
    }
    throw new RangeError(`More than ${mostRedirects} redirects, the last to ${url}`);
  };

  const post = (url: string, fields: Readonly<Record<string, string>>, origin = new URL(url).origin) =>
    travel(url, {
      method: "POST",
      body: new URLSearchParams(fields).toString(),
      headers: { "content-type": "application/x-www-form-urlencoded", origin },
    });

  return {
    async open(url, headers = {}) {
      if (!URL.canParse(url))
        throw new RangeError(`A visitor opens a whole address, and not ${JSON.stringify(url)}.`);
      return travel(url, { headers });
    },
    press(text) {
      if (!page) throw new RangeError(`No page is open to press ${JSON.stringify(text)} on.`);
      const found = parse(page.text)
        .querySelectorAll("a[href], button")
        .find((element) => visibleText(element).startsWith(text));
      if (!found)
        throw new RangeError(`Nothing to press that begins with ${JSON.stringify(text)} at ${page.url}`);
      const here = page.url;
      if (found.tagName === "A") return travel(new URL(found.getAttribute("href") ?? "", here).href);
      const form = found.closest("form");
      if (!form) throw new RangeError(`The button ${JSON.stringify(text)} is in no form.`);
      const fields = [...form.querySelectorAll("input[type=hidden]"), found]
        .map((field) => [field.getAttribute("name") ?? "", field.getAttribute("value") ?? ""] as const)
        .filter(([name]) => name !== "");
      return post(
        new URL(form.getAttribute("action") ?? here, here).href,
        Object.fromEntries(fields),
        new URL(here).origin,
      );
    },
    post,
    fetch: send,
    cookies,
    get page() {
      return page;
    },
  };
}

function visibleText(element: HTMLElement): string {
  return element.text.replace(/\s+/g, " ").trim();
}

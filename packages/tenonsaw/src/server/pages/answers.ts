import type { Platform } from "../../platform/index.js";
import {
  fragmentScript,
  frameScript,
  handOverScript,
  pageStyle,
  popUpScript,
  renderPage,
  repostScript,
  type PageContent,
  type PassingPage,
} from "./pages.js";
import { framingOrigins } from "../settings/hosts.js";
import type { ResolvedSignInSettings } from "../settings/settings-types.js";

/** How this app's own routes answer: never cached, framed only where the settings say, without referrer. */
export interface Answers {
  page(content: PageContent, status: number, headers?: Readonly<Record<string, string>>): Response;
  /** A page that passes something on by itself. */
  passing(page: PassingPage, status?: number, cookies?: readonly string[]): Response;
  /** 303: whatever the method was, the browser goes on with GET. */
  redirect(location: string, cookies?: readonly string[]): Response;
  json(
    value: unknown,
    status: number,
    cookies?: readonly string[],
    headers?: Readonly<Record<string, string>>,
  ): Response;
}

const passingScripts = [repostScript, fragmentScript, popUpScript, frameScript, handOverScript];

export async function createAnswers(
  platform: Platform,
  settings: Pick<ResolvedSignInSettings, "theme" | "pages" | "providers">,
): Promise<Answers> {
  const { theme, pages } = settings;
  const common = {
    "cache-control": "no-store",
    "referrer-policy": "no-referrer",
    "x-content-type-options": "nosniff",
  };
  // CSP 3 section 2.3.1 takes the URL-safe alphabet as well; the padding is not optional.
  const hash = async (text: string) => `'sha256-${await platform.crypto.digestText("SHA-256", text)}='`;
  const style = pageStyle(theme);
  const styleHash = await hash(style);
  const scripts = (await Promise.all(passingScripts.map(hash))).join(" ");
  const framers = [...(pages.frameAncestors ?? []), ...framingOrigins(settings)];
  const framing = framers.join(" ") || "'none'";
  const headersWith = (more: Readonly<Record<string, string>>, cookies: readonly string[] = []) => {
    const headers = new Headers({ ...common, ...more });
    for (const cookie of cookies) headers.append("set-cookie", cookie);
    return headers;
  };
  const htmlHeaders = (policy: string) => ({
    "content-type": "text/html; charset=utf-8",
    "content-security-policy": `default-src 'none'; style-src ${styleHash}; base-uri 'none'; ${policy}; frame-ancestors ${framing}`,
  });
  return {
    page: (content, status, headers) =>
      new Response(renderPage(content, style), {
        status,
        // A form leads to this app, and from there to a provider, who may lead anywhere; some browsers judge by the end of it.
        headers: headersWith({
          ...headers,
          ...htmlHeaders(content.form ? "form-action https: http:" : "form-action 'none'"),
        }),
      }),
    passing: (page, status = 200, cookies) =>
      new Response(page(style), {
        status,
        headers: headersWith(htmlHeaders(`form-action 'self'; script-src ${scripts}`), cookies),
      }),
    redirect: (location, cookies) =>
      new Response(null, { status: 303, headers: headersWith({ location }, cookies) }),
    json: (value, status, cookies, headers = {}) =>
      Response.json(value, { status, headers: headersWith(headers, cookies) }),
  };
}

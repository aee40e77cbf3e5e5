import type { Platform } from "../platform/index.js";
import { fragmentScript, pageStyle, renderPage, repostScript, type PageContent } from "./pages.js";

/** How this app's own routes answer: never cached, never framed, without script, without referrer. */
export interface Answers {
  page(content: PageContent, status: number, headers?: Readonly<Record<string, string>>): Response;
  /** A page that passes something on to this app by a form of its own. */
  passing(html: string): Response;
  /** 303: whatever the method was, the browser goes on with GET. */
  redirect(location: string, cookies?: readonly string[]): Response;
  json(value: unknown, status: number): Response;
}

export async function createAnswers(platform: Platform): Promise<Answers> {
  const common = {
    "cache-control": "no-store",
    "referrer-policy": "no-referrer",
    "x-content-type-options": "nosniff",
  };
  // CSP 3 section 2.3.1 takes the URL-safe alphabet as well; the padding is not optional.
  const hash = async (text: string) => `'sha256-${await platform.crypto.digestText("SHA-256", text)}='`;
  const style = await hash(pageStyle);
  const scripts = [await hash(repostScript), await hash(fragmentScript)].join(" ");
  const html = (
    text: string,
    status: number,
    policy: string,
    headers: Readonly<Record<string, string>> = {},
  ) =>
    new Response(text, {
      status,
      headers: {
        ...common,
        ...headers,
        "content-type": "text/html; charset=utf-8",
        "content-security-policy": `default-src 'none'; style-src ${style}; base-uri 'none'; ${policy}; frame-ancestors 'none'`,
      },
    });
  return {
    page: (content, status, headers) => html(renderPage(content), status, "form-action 'none'", headers),
    passing: (text) => html(text, 200, `form-action 'self'; script-src ${scripts}`),
    redirect(location, cookies = []) {
      const headers = new Headers({ ...common, location });
      for (const cookie of cookies) headers.append("set-cookie", cookie);
      return new Response(null, { status: 303, headers });
    },
    json: (value, status) => Response.json(value, { status, headers: common }),
  };
}

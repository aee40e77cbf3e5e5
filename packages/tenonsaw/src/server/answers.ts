import type { Platform } from "../platform/index.js";
import { pageStyle, renderPage, type PageContent } from "./pages.js";

/** How this app's own routes answer: never cached, never framed, without script, without referrer. */
export interface Answers {
  page(content: PageContent, status: number): Response;
  /** 303: whatever the method was, the browser goes on with GET. */
  redirect(location: string, cookies?: readonly string[]): Response;
  json(value: unknown, status: number): Response;
}

export async function createAnswers(platform: Platform): Promise<Answers> {
  // CSP 3 section 2.3.1 takes the URL-safe alphabet as well; the padding is not optional.
  const style = `${await platform.crypto.digestText("SHA-256", pageStyle)}=`;
  const common = {
    "cache-control": "no-store",
    "referrer-policy": "no-referrer",
    "x-content-type-options": "nosniff",
  };
  return {
    page: (content, status) =>
      new Response(renderPage(content), {
        status,
        headers: {
          ...common,
          "content-type": "text/html; charset=utf-8",
          "content-security-policy": `default-src 'none'; style-src 'sha256-${style}'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'`,
        },
      }),
    redirect(location, cookies = []) {
      const headers = new Headers({ ...common, location });
      for (const cookie of cookies) headers.append("set-cookie", cookie);
      return new Response(null, { status: 303, headers });
    },
    json: (value, status) => Response.json(value, { status, headers: common }),
  };
}

import type { IncomingMessage } from "node:http";
import pc from "picocolors";
import { awaitBrowser, type Awaiting } from "./await-browser.js";

/** RFC 8252 section 7.3: what the browser brings to the redirect URI; undefined when it was ended. */
export function awaitCallback(
  redirectUri: string,
  { state, mode }: { readonly state: string; readonly mode: string },
  say: (text: string) => void,
  ready: () => void,
): Promise<URLSearchParams | undefined> {
  const answer: Awaiting<URLSearchParams>["answer"] = async (request, response, url, end) => {
    // OAuth 2.0 Form Post Response Mode 1.0; and what came behind the # is posted from the page below.
    const parameters =
      request.method === "POST" ? new URLSearchParams(await readBody(request)) : url.searchParams;
    const received = new URLSearchParams(parameters.get("fragment") ?? parameters);
    const values = [...received.values()];
    // A signed answer has its state inside.
    if (!values.includes(state) && !(mode.endsWith(".jwt") && received.has("response"))) {
      if (mode.startsWith("fragment") && request.method === "GET" && values.length === 0) {
        response.setHeader("content-type", "text/html; charset=utf-8");
        response.end(fragmentPage);
        return;
      }
      // Whoever looks at the address, loads it ahead or opens an old tab brings no answer to this attempt.
      say(pc.dim(`  ${request.method ?? ""} ${url.pathname} without this attempt's state: still waiting`));
      response.writeHead(400).end("This is not the answer that is awaited. Go back to the terminal.");
      return;
    }
    response.end("That is all. Go back to the terminal.");
    end(received);
  };
  const interrupted = `\nNo answer came to ${redirectUri}. If the provider showed an error instead of coming back, it is about the request: tenonsaw check says what of it is not registered. If it came back elsewhere, register this address, or name the one that is: --redirect-uri.`;
  const instead = ", or name another address with --redirect-uri";
  return awaitBrowser(redirectUri, { answer, ready, interrupted, instead }, say);
}

/** Sends what came behind the # of the address, which a browser tells no server. */
const fragmentPage =
  "<!doctype html><title>Back to the terminal</title><form method=post><input type=hidden name=fragment></form><script>if(location.hash){document.forms[0].fragment.value=location.hash.slice(1);document.forms[0].submit()}else document.body.append('Nothing came back with this address. Go back to the terminal.')</script>";

/** As much of a body as an answer can have. */
async function readBody(request: IncomingMessage): Promise<string> {
  let text = "";
  for await (const chunk of request) {
    text += String(chunk);
    if (text.length > 256 * 1024) return "";
  }
  return text;
}

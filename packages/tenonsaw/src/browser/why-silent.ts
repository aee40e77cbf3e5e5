import type { Platform } from "../platform/index.js";
import { fail } from "../problem/index.js";

/** A violation of a policy is told of after the request has failed, within this. */
const policyMilliseconds = 250;
/** Requests that a page may make of anybody, whatever they allow (Fetch Standard 2.2.1). */
const simpleMethods = ["GET", "HEAD", "POST"];

/**
 * Finds out why a request of a page's worker had no answer. A browser does not say; but it says whether somebody answers at
 * all (Fetch Standard 3.3), and whether a policy of the page forbids to ask (Content Security Policy 3, 5.3). What the page
 * may read when it is asked once more, without anybody's token, was cut off.
 *
 * @throws page.policy-refused, page.cors-refused, platform.unreachable
 */
export async function whySilent(
  { platform, origin }: { readonly platform: Platform; readonly origin: string },
  url: string,
  { method = "GET", headers: sent }: RequestInit,
  cause: unknown,
): Promise<never> {
  const { origin: there } = new URL(url);
  const answers = (at: string, init: RequestInit) =>
    platform.fetch(at, { cache: "no-store", signal: platform.deadline(5), ...init }).then(
      () => true,
      () => false,
    );
  const forbidden = new Promise<boolean>((resolve) => {
    (globalThis as Partial<EventTarget>).addEventListener?.("securitypolicyviolation", () => resolve(true), {
      once: true,
    });
  });
  if (await answers(`${there}/`, { mode: "no-cors" })) {
    const headers = new Headers(sent);
    for (const name of ["authorization", "dpop"]) if (headers.has(name)) headers.set(name, "none");
    if (simpleMethods.includes(method) && (await answers(url, { headers, redirect: "manual" })))
      return fail("platform.unreachable", { received: `${there}: no answer`, because: "cut-off", cause });
    return fail("page.cors-refused", {
      received: `an answer of ${there} that this browser does not hand over to ${origin}`,
      expected: `Access-Control-Allow-Origin: ${origin} there, and authorization and dpop in Access-Control-Allow-Headers`,
      cause,
    });
  }
  const patience = new Promise<boolean>((resolve) => {
    setTimeout(() => resolve(false), policyMilliseconds);
  });
  if (await Promise.race([forbidden, patience]))
    return fail("page.policy-refused", {
      received: `a policy under which nothing may be asked of ${there}`,
      expected: `${there} in connect-src`,
      cause,
    });
  // Away, or one that lets no other origin even see that it answers.
  return fail("platform.unreachable", { received: `no answer from ${there}`, because: "page", cause });
}

import type { Context } from "hono";
import { messagePage } from "./quayside/pages.js";

/** Where a browser is sent back to: the redirect URI with the answer, and the state as it came. */
export function answer(
  { redirectUri, state }: { readonly redirectUri: string; readonly state: string | null },
  parameters: Readonly<Record<string, string>>,
): string {
  const url = new URL(redirectUri);
  for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value);
  if (state !== null) url.searchParams.set("state", state);
  return url.href;
}

/** The request that a form of the provider's own pages is about, by its ID. */
export function find<Request>(
  pending: ReadonlyMap<string, Request>,
  form: FormData,
): readonly [string, Request | undefined] {
  const id = form.get("request");
  return typeof id === "string" ? [id, pending.get(id)] : ["", undefined];
}

export function refuse(c: Context, brand: string): Response | Promise<Response> {
  return c.html(messagePage(brand, "This did not work", "Go back to the app and start again."), 400);
}

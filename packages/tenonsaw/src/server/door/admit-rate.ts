import { fail } from "../../problem/index.js";
import { askApp, shapeOf, type Tools } from "../../trace/index.js";
import type { SignInSettings } from "../settings/settings-types.js";

/** The routes that cost the store or a provider something. */
const costly = /^\/(to|from|launch|link|unlink|connect|disconnect|back-channel|front-channel|out)\b/;

/** @throws server.too-many-requests */
export async function admitRate(
  {
    tools,
    limitRate,
  }: { readonly tools: Tools; readonly limitRate: NonNullable<SignInSettings["limitRate"]> },
  request: Request,
  path: string,
  peer: string | undefined,
): Promise<void> {
  if (!costly.test(path)) return;
  const seconds: unknown = await askApp(tools, "limitRate", () => limitRate(request, peer));
  if (seconds === undefined || seconds === null) return;
  if (typeof seconds !== "number" || !Number.isFinite(seconds))
    fail("server.hook-unusable", {
      received: `\`limitRate\` answered ${shapeOf(seconds)}`,
      expected: "so many seconds until the next request is admitted, or undefined for at once",
    });
  if (seconds <= 0) return;
  fail("server.too-many-requests", {
    received: peer === undefined ? "one more than is admitted" : `one more from ${peer} than is admitted`,
    retryAfterSeconds: Math.ceil(seconds),
  });
}

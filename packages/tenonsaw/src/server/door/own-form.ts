import { limits } from "../../platform/index.js";
import type { ResolvedSignInSettings } from "../settings/settings-types.js";
import type { Tools } from "../../trace/index.js";
import { readForm } from "../../trace/index.js";
import { requireOwnPage } from "./own-page.js";
import { readReturnPath } from "./return-path.js";

/**
 * What a form of this app's own page says, and where it leads back to.
 *
 * @throws session.other-origin, server.return-path-refused, server.body-*
 */
export async function readOwnForm(
  { tools, settings }: { readonly tools: Tools; readonly settings: ResolvedSignInSettings },
  request: Request,
): Promise<{ readonly form: URLSearchParams; readonly returnTo: string }> {
  requireOwnPage({ tools, settings }, request);
  const form = await readForm(tools, request, limits.ownForm);
  return { form, returnTo: readReturnPath(settings.origin, form.get("returnTo"), settings.pages.signedIn) };
}

import { limits } from "../../platform/index.js";
import type { ResolvedSignInSettings } from "../settings/settings-types.js";
import type { Tools } from "../../trace/index.js";
import { readForm } from "../../trace/index.js";
import { tellMisspelt } from "./misspelt.js";
import { requireOwnPage } from "./own-page.js";
import { readReturnPath } from "./return-path.js";

/**
 * What a form of this app's own page says, and where it leads back to.
 *
 * @param fields what it may say beside `returnTo`
 * @throws session.other-origin, server.return-path-refused, server.body-*
 */
export async function readOwnForm(
  { tools, settings }: { readonly tools: Tools; readonly settings: ResolvedSignInSettings },
  request: Request,
  fields: readonly string[],
): Promise<{ readonly form: URLSearchParams; readonly returnTo: string }> {
  requireOwnPage({ tools, settings }, request);
  const form = await readForm(tools, request, limits.ownForm);
  tellMisspelt({ tools, settings }, request, form, ["returnTo", ...fields]);
  return { form, returnTo: readReturnPath(settings.origin, form.get("returnTo"), settings.pages.signedIn) };
}

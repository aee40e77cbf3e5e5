import { parseChallenges } from "tenonsaw";

/** What a refusal of an API says, and no more than that (RFC 6750 section 3.1): where it does not say why, that is said. */
export function explainRefusal({ status, headers }: Response): string | undefined {
  if (status !== 401 && status !== 403) return undefined;
  const said = parseChallenges(headers.get("www-authenticate") ?? "").find(
    ({ parameters }) => parameters["error"] !== undefined,
  )?.parameters;
  const { error, error_description: description, scope } = said ?? {};
  const words = description === undefined ? "" : ` It says: ${JSON.stringify(description.slice(0, 300))}.`;
  if (error === "insufficient_scope")
    return `The access token does not allow this${scope === undefined ? "" : `: it takes ${scope}`}.${words} Change here: add the scope to \`scope\`; at the provider: allow it for this client.`;
  if (status === 403)
    return `The API refuses this, and does not say why.${words} It may be a scope that the token lacks, a right that the person lacks there, or a rule of the API's own: its documentation knows.`;
  const reasons =
    "it is meant for another API (set `resource` or `audience`), the API trusts another issuer, or another environment's";
  return `The API does not accept this access token${error === undefined ? ", and does not say why" : ` (${error})`}.${words} Usual reasons: ${reasons}. Hold the token against the API: tenonsaw explain --against.`;
}

import { parseChallenges } from "tenonsaw";

/** What a refusal of an API usually means, and where to change something (RFC 6750 section 3.1). */
export function explainRefusal(status: number, header: string): string | undefined {
  const wanting = parseChallenges(header).find(
    ({ parameters }) => parameters["error"] === "insufficient_scope",
  );
  if (status === 403 || wanting) {
    const scope = wanting?.parameters["scope"];
    return `The access token does not allow this${scope === undefined ? "" : `: it takes ${scope}`}. Change here: add the scope to \`scope\`; at the provider: allow it for this client.`;
  }
  if (status !== 401) return undefined;
  return "The API does not accept this access token. Usual reasons: it is meant for another API (set `resource` or `audience`), the API trusts another issuer, or another environment's.";
}

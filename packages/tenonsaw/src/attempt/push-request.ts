import * as v from "valibot";
import { fail } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import { authenticateClient, mistakesIn, readMembers, type Provider } from "../provider/index.js";
import { requireAvailable, sendLeg } from "../trace/index.js";

const pushAnswer = v.object({
  request_uri: v.pipe(v.string(), v.minLength(1)),
  expires_in: v.pipe(v.number(), v.minValue(1)),
});

/**
 * Sends an authorization request ahead, from server to server: RFC 9126 sections 2.1 and 2.2. What is left for the
 * browser to carry are the parameters returned: who asks, and which request it is.
 *
 * @throws provider.unavailable, grant.client-refused, attempt.request-refused, platform.*
 */
export async function pushRequest(
  provider: Provider,
  parameters: readonly (readonly [string, string])[],
): Promise<readonly (readonly [string, string])[]> {
  const client = await authenticateClient(provider);
  const named = new Set(parameters.map(([name]) => name));
  const ownForm = Object.entries(client.form).filter(([name]) => !named.has(name));
  const answer = await sendLeg(provider.tools, {
    station: "attempt",
    leg: "pushed authorization request",
    url: provider.metadata.pushed_authorization_request_endpoint ?? "",
    headers: client.headers,
    form: new URLSearchParams([...parameters, ...ownForm].map(([name, value]) => [name, value])),
    timeoutSeconds: provider.timeoutSeconds,
  });
  await requireAvailable(provider.tools, "pushed authorization request", answer);
  const body = readMembers(answer, "answer to the pushed authorization request");
  const result = v.safeParse(pushAnswer, body);
  // 2.2: 201 with request_uri and expires_in; 2.3: errors as at the token endpoint.
  if (answer.status !== 201 || !result.success) {
    if (answer.status === 200 && result.success)
      fail("attempt.request-refused", {
        received: "status 200 with a request_uri",
        because: "other-status",
      });
    const mistakes = answer.status === 201 ? mistakesIn(result.issues ?? []) : [];
    const { refuseLeg } = await loadPart(import("../provider/refuse-leg.js"));
    return refuseLeg(provider, "attempt.request-refused", answer, body, mistakes);
  }
  return [
    ["client_id", provider.clientId],
    ["request_uri", result.output.request_uri],
  ];
}

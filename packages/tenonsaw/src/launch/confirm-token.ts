import { parseJsonObject, type JsonObject } from "../jose/index.js";
import { fail, quoted } from "../problem/index.js";
import { authenticateClient, type Provider } from "../provider/index.js";
import type { Grant } from "../grant/index.js";
import { requireAvailable, sendLeg, wordsOf } from "../trace/index.js";

/**
 * Has the host confirm an access token, where it offers that: SMART App Launch 2.2, Token Introspection, and RFC 7662 section 2.
 * It has to be good, for this host, and about the patient that came with it.
 *
 * @returns what the host says of it; undefined where it offers no introspection
 * @throws provider.unavailable, launch.token-unconfirmed, platform.*
 */
export async function confirmToken(provider: Provider, grant: Grant): Promise<JsonObject | undefined> {
  const { tools, metadata, host, timeoutSeconds } = provider;
  const url = metadata.introspection_endpoint;
  if (url === undefined) return undefined;
  const client = await authenticateClient(provider);
  const answer = await sendLeg(tools, {
    station: "launch",
    leg: "introspection request",
    url,
    headers: client.headers,
    form: new URLSearchParams({ token: grant.accessToken, token_type_hint: "access_token", ...client.form }),
    timeoutSeconds,
  });
  await requireAvailable(tools, "introspection request", answer);
  if (answer.status !== 200)
    fail("launch.token-unconfirmed", {
      received: `status ${answer.status} to a question about it${await wordsOf(answer)}`,
    });
  const said = parseJsonObject(answer.text, "introspection answer");
  if (said["active"] !== true)
    fail("launch.token-unconfirmed", { received: `active ${quoted(said["active"])}`, because: "inactive" });
  const audiences = [said["aud"] ?? host?.base].flat();
  if (host && !audiences.includes(host.base))
    fail("launch.token-unconfirmed", {
      received: `aud ${quoted(said["aud"])}`,
      expected: `aud ${quoted(host.base)}`,
      because: "audience",
    });
  const patient = grant.context?.["patient"];
  // By fingerprint elsewhere; here it is two values of which at most one may be shown.
  if (said["patient"] !== undefined && said["patient"] !== patient)
    fail("launch.token-unconfirmed", {
      received: "another patient than the token answer named",
      because: "patient",
    });
  return said;
}

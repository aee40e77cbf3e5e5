import * as v from "valibot";
import type { JsonObject } from "../jose/index.js";
import { Secret } from "../platform/index.js";
import { fail, quotedList } from "../problem/index.js";
import { requireAvailable, requireFit, sendLeg } from "../trace/index.js";
import type { Provider } from "./settle-provider.js";
import { requireProvider } from "./require-provider.js";
import { mistakesIn } from "./mistakes-in.js";
import { describeRefusal, readMembers } from "./read-refusal.js";

/** What a provider gave a newly registered client. */
export interface Registration {
  readonly clientId: string;
  readonly clientSecret?: Secret;
  /** How the client is to prove itself from now on, where the provider says: it may be another way than was asked for. */
  readonly clientAuthentication?: string;
  /** Seconds since the epoch; absent when the secret does not end. */
  readonly clientSecretExpiresAt?: number;
}

const registrationAnswer = v.object({
  client_id: v.pipe(v.string(), v.minLength(1)),
  client_secret: v.optional(v.pipe(v.string(), v.minLength(1))),
  client_secret_expires_at: v.optional(v.number(), 0),
  token_endpoint_auth_method: v.optional(v.pipe(v.string(), v.regex(/^[\w.:/-]{1,100}$/))),
});

/**
 * Registers the app with a provider that offers it: dynamic client registration, RFC 7591 section 3.
 *
 * @param metadata client metadata, section 2: redirect_uris and so on
 * @param initialAccessToken where the provider asks for one
 * @throws provider.not-open, server.unfit-argument, provider.registration-not-offered, provider.unavailable, provider.registration-refused, platform.*
 */
export async function registerClient(
  provider: Provider,
  metadata: JsonObject,
  initialAccessToken?: Secret,
): Promise<Registration> {
  requireProvider(provider);
  requireFit(metadata, (given) => typeof given === "object", "client metadata: { redirect_uris: […], … }");
  if (initialAccessToken !== undefined)
    requireFit(initialAccessToken, (given) => given instanceof Secret, "a Secret: new Secret(token)");
  const url = provider.metadata.registration_endpoint;
  if (url === undefined)
    fail("provider.registration-not-offered", { received: "metadata without registration_endpoint" });
  const answer = await sendLeg(provider.tools, {
    station: "provider",
    leg: "registration request",
    url,
    json: metadata,
    ...(initialAccessToken && { headers: { authorization: `Bearer ${initialAccessToken.reveal()}` } }),
    timeoutSeconds: provider.timeoutSeconds,
  });
  await requireAvailable(provider.tools, "registration request", answer);
  const body = readMembers(answer, "registration answer");
  const result = v.safeParse(registrationAnswer, body);
  // 3.2.1: success is 201; 3.2.2: errors are 400 with a code.
  if ((answer.status !== 201 && answer.status !== 200) || !result.success) {
    const isDone = answer.status < 300;
    fail("provider.registration-refused", {
      received: isDone
        ? `status ${answer.status} and the members ${quotedList(Object.keys(body)) ?? "(none)"}`
        : await describeRefusal(answer, body),
      because: isDone
        ? "unusable"
        : [401, 403].includes(answer.status)
          ? initialAccessToken
            ? "token-refused"
            : "no-token"
          : undefined,
      ...(isDone && { findings: mistakesIn(result.issues ?? []) }),
    });
  }
  const { client_id, client_secret, client_secret_expires_at } = result.output;
  const { token_endpoint_auth_method: method } = result.output;
  // 3.2.1: what is registered is what the answer says.
  if (method?.startsWith("client_secret_") === true && client_secret === undefined)
    fail("provider.registration-refused", { received: `${method}, and no client_secret to do it with` });
  return {
    clientId: client_id,
    ...(client_secret !== undefined && { clientSecret: new Secret(client_secret) }),
    ...(method !== undefined && { clientAuthentication: method }),
    ...(client_secret_expires_at > 0 && { clientSecretExpiresAt: client_secret_expires_at }),
  };
}

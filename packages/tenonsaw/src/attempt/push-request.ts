import * as v from "valibot";
import { parseJsonObject, type JsonObject } from "../jose/index.js";
import { fail, isProblem, quoted } from "../problem/index.js";
import { authenticateClient, type Provider } from "../provider/index.js";
import { sendLeg } from "../trace/index.js";

const pushAnswer = v.object({
  request_uri: v.pipe(v.string(), v.minLength(1)),
  expires_in: v.pipe(v.number(), v.minValue(1)),
});

/**
 * Sends an authorization request ahead, from server to server: RFC 9126 sections 2.1 and 2.2. What is left for the
 * browser to carry are the parameters returned: who asks, and which request it is.
 *
 * @throws attempt.request-refused, platform.*
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
  const body = readBody(answer.text);
  const result = v.safeParse(pushAnswer, body);
  // 2.2: 201 with request_uri and expires_in; 2.3: errors as at the token endpoint.
  if (answer.status !== 201 || !result.success) {
    const { error, error_description: description } = body;
    const reason = [error, description].filter((part) => typeof part === "string");
    fail("attempt.request-refused", {
      received: [`status ${answer.status}`, ...reason.map((part) => quoted(part, 300))].join(", "),
    });
  }
  return [
    ["client_id", provider.clientId],
    ["request_uri", result.output.request_uri],
  ];
}

function readBody(text: string): JsonObject {
  try {
    return parseJsonObject(text, "answer to the pushed authorization request");
  } catch (error) {
    if (!isProblem(error)) throw error;
    return {};
  }
}

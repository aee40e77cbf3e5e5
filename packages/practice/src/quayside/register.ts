import type { Hono } from "hono";
import type { Jwk } from "tenonsaw/jose";
import { authenticationMethods, scopes } from "./metadata.js";
import { randomText } from "../random-text.js";
import type { Client, QuaysideState } from "./state.js";

/** The registration endpoint: RFC 7591 section 3. Everybody may register: it is for practice. */
export function addRegister(app: Hono, state: QuaysideState): void {
  app.post("/register", async (c) => {
    const refuse = (error: string, error_description: string) => c.json({ error, error_description }, 400);
    const asked = (await c.req.json().catch(() => ({}))) as Readonly<Record<string, unknown>>;
    const redirectUris = readUris(asked["redirect_uris"]);
    if (!redirectUris || redirectUris.length === 0) {
      return refuse(
        "invalid_redirect_uri",
        "redirect_uris has to be a list of absolute URIs without fragment.",
      );
    }
    const method = asked["token_endpoint_auth_method"] ?? "client_secret_basic";
    if (!authenticationMethods.includes(textOf(method))) {
      return refuse("invalid_client_metadata", "token_endpoint_auth_method is not offered.");
    }
    const publicKeys = readKeys(asked["jwks"]);
    if (method === "private_key_jwt" && !publicKeys)
      return refuse(
        "invalid_client_metadata",
        "private_key_jwt needs jwks with public keys that have a kid.",
      );
    const unknown = textOf(asked["scope"] ?? "openid")
      .split(" ")
      .filter((scope) => !Object.hasOwn(scopes, scope));
    if (unknown.length > 0) return refuse("invalid_client_metadata", `Not offered: ${unknown.join(" ")}.`);
    const client: Client = {
      clientId: `app-${randomText().slice(0, 10)}`,
      ...(method === "private_key_jwt" && publicKeys && { publicKeys }),
      ...(method !== "none" && method !== "private_key_jwt" && { clientSecret: randomText() }),
      title: typeof asked["client_name"] === "string" ? asked["client_name"] : "A registered app",
      redirectUris,
      postLogoutRedirectUris: readUris(asked["post_logout_redirect_uris"]) ?? [],
      ...logoutUris(asked),
    };
    state.clients.set(client.clientId, client);
    c.header("cache-control", "no-store");
    return c.json(
      {
        ...asked,
        client_id: client.clientId,
        client_id_issued_at: Math.floor(state.now()),
        ...(client.clientSecret !== undefined && {
          client_secret: client.clientSecret,
          client_secret_expires_at: 0,
        }),
        token_endpoint_auth_method: method,
      },
      201,
    );
  });
}

function textOf(value: unknown): string {
  return typeof value === "string" ? value : JSON.stringify(value);
}

function readUris(value: unknown): readonly string[] | undefined {
  if (!Array.isArray(value)) return undefined;
  const uris = value.filter(
    (uri): uri is string => typeof uri === "string" && URL.canParse(uri) && !uri.includes("#"),
  );
  return uris.length === value.length ? uris : undefined;
}

/** RFC 7591 section 2, `jwks`: public keys, each with an ID. */
function readKeys(value: unknown): readonly Jwk[] | undefined {
  const { keys } = (value ?? {}) as { readonly keys?: unknown };
  if (!Array.isArray(keys) || keys.length === 0) return undefined;
  const isUsable = (key: Partial<Jwk>) => typeof key.kid === "string" && key.d === undefined;
  return keys.every(isUsable) ? (keys as readonly Jwk[]) : undefined;
}

function logoutUris(asked: Readonly<Record<string, unknown>>): Partial<Client> {
  const [back] = readUris([asked["backchannel_logout_uri"]]) ?? [];
  const [front] = readUris([asked["frontchannel_logout_uri"]]) ?? [];
  return {
    ...(back !== undefined && { backChannelLogoutUri: back }),
    ...(front !== undefined && { frontChannelLogoutUri: front }),
  };
}

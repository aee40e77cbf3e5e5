import { timingSafeEqual } from "node:crypto";
import type { Context } from "hono";
import { createTools, decodeJws, prepareKey, verifyJws } from "tenonsaw/jose";
import { TokenError } from "../quayside/authenticate.js";
import { sha256, type Client } from "../quayside/state.js";
import type { ClinicState } from "./state.js";

const tools = createTools();

/** SMART App Launch 2.2, Client Authentication: a public client, a secret in Basic, or an assertion in RS384 or ES384. */
export async function authenticate(
  state: ClinicState,
  c: Context,
  form: URLSearchParams,
  endpoint: string,
): Promise<Client> {
  const refused = (why: string) => new TokenError("invalid_client", why, 401);
  const [, basic = ""] = /^Basic (.+)$/i.exec(c.req.header("authorization") ?? "") ?? [];
  const [id = "", secret = ""] = Buffer.from(basic, "base64").toString().split(":").map(decodeURIComponent);
  const client = state.clients.get(basic === "" ? (form.get("client_id") ?? idOf(form)) : id);
  if (!client) throw refused("This client is not registered.");
  const assertion = form.get("client_assertion");
  if (client.publicKeys) {
    const why = assertion === null ? "there is none" : await findFault(state, client, assertion, endpoint);
    if (why !== undefined) throw refused(`The client assertion is not accepted: ${why}.`);
    return client;
  }
  if (client.clientSecret === undefined) return client;
  if (!timingSafeEqual(sha256(secret), sha256(client.clientSecret))) throw refused("The secret is wrong.");
  return client;
}

/** The standard sends no client_id beside an assertion: who it is stands in it. */
function idOf(form: URLSearchParams): string {
  try {
    return String(decodeJws(form.get("client_assertion") ?? "").payload["sub"]);
  } catch {
    return "";
  }
}

async function findFault(
  state: ClinicState,
  { clientId, publicKeys = [] }: Client,
  assertion: string,
  endpoint: string,
): Promise<string | undefined> {
  try {
    const { typ, kid } = decodeJws(assertion).header;
    if (typ !== "JWT") return "typ has to be JWT";
    const key = publicKeys.find((each) => each.kid === kid);
    if (!key) return "its kid is none of the registered keys";
    const { payload } = await verifyJws(tools, assertion, ["RS384", "ES384"], (_, algorithm) =>
      prepareKey(tools, key, algorithm, "verify"),
    );
    const { iss, sub, aud, exp, jti } = payload;
    if (iss !== clientId || sub !== clientId) return "iss and sub have to be the client ID";
    if (aud !== endpoint) return `aud has to be ${endpoint}`;
    if (!(Number(exp) > state.now() && Number(exp) <= state.now() + 300))
      return "exp is past, or more than five minutes ahead";
    if (typeof jti !== "string" || state.assertions.has(jti)) return "jti is missing or was used before";
    state.assertions.add(jti);
    return undefined;
  } catch {
    return "its signature fits none of the registered keys";
  }
}

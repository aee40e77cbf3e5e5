import { fetchWithGrant, resolveApiUrl } from "../../connection/index.js";
import { isShown, pickClaims } from "../../identity/index.js";
import type { JsonObject } from "../../jose/index.js";
import { limits } from "../../platform/index.js";
import { fail, ProblemError, quoted, type CauseOf } from "../../problem/index.js";
import type { Granted, KeptConnection } from "../../session/index.js";
import type { Context } from "../context/context.js";
import { connectionSettings } from "../settings/connection-settings.js";
import { requireApi } from "./call.js";

/** What tells an account apart from others of the same person at the same provider. */
export type Account = Pick<KeptConnection, "account" | "accountName" | "confirmedAt">;

/** No description of an account is longer, in bytes. */
const longestDescription = 65_536;

/**
 * Which account a person has just connected: by the identity, by what the API answers to a request with the fresh token, or
 * by a parameter of the callback. What came through the browser counts only where the provider says the same.
 *
 * @throws connection.account-mismatch, connection.account-unreadable, grant.*, platform.*
 */
export async function readAccount(context: Context, name: string, granted: Granted): Promise<Account> {
  const { account: { parameter, confirmedBy, id, name: namePointers } = {} } =
    connectionSettings(context.settings, name) ?? {};
  const now = Math.floor(context.tools.platform.now());
  const { identity, kept = {} } = granted;
  const brought = parameter === undefined ? undefined : kept[parameter];
  if (parameter !== undefined && !confirmedBy)
    return { account: requireId(brought, `the parameter ${parameter}`, "no-parameter") };
  const described = confirmedBy ? await describe(context, name, granted, confirmedBy) : identity.claims;
  const usualId = confirmedBy ? "/id" : "/sub";
  const picked = pickClaims({ id: id ?? usualId, name: namePointers ?? "/name" }, described);
  // Of a provider without ID tokens the subject may be anywhere in the claims: it is known already.
  const found = id === undefined && !confirmedBy ? identity.subject : picked["id"];
  const account = requireId(found, [id ?? usualId].flat().join(" or "));
  if (brought !== undefined && brought !== account)
    fail("connection.account-mismatch", {
      received: `${parameter ?? ""}=${quoted(brought, 80)} with the callback, ${quoted(account, 80)} from the provider`,
    });
  const accountName = picked["name"] ?? (confirmedBy ? undefined : identity.profile.name);
  if (isShown(accountName, limits.subject)) return { account, accountName, confirmedAt: now };
  // Asked for by the settings, and not there: the person sees an ID meanwhile, and nobody would know why.
  if (namePointers !== undefined)
    context.tools.report?.(
      new ProblemError("connection.account-unreadable", {
        received: received(accountName, [namePointers].flat().join(" or ")),
        because: "name",
      }),
      `connecting an account at ${name}`,
    );
  return { account, confirmedAt: now };
}

function received(value: unknown, place: string): string {
  return value === undefined ? `nothing at ${place}` : `${quoted(value, 80)} at ${place}`;
}

function requireId(
  value: unknown,
  place: string,
  because?: CauseOf<"connection.account-unreadable">,
): string {
  const text = typeof value === "number" && Number.isSafeInteger(value) ? String(value) : value;
  if (isShown(text, limits.subject)) return text;
  return fail("connection.account-unreadable", { received: received(value, place), because });
}

async function describe(
  context: Context,
  name: string,
  { grant }: Granted,
  confirmedBy: { readonly api: string; readonly path: string },
): Promise<JsonObject> {
  const provider = await context.providers.open(name);
  const url = resolveApiUrl(requireApi(context, confirmedBy.api), confirmedBy.path);
  // The deadline is for the whole of the answer.
  const signal = context.tools.platform.deadline(provider.timeoutSeconds);
  const headers = { accept: "application/json" };
  const unreadable = (said: string, because: CauseOf<"connection.account-unreadable">, cause?: unknown) =>
    fail("connection.account-unreadable", { received: `${said} from ${confirmedBy.api}`, because, cause });
  let text = "";
  try {
    const answer = await fetchWithGrant(provider, grant, url, { headers, signal });
    text = await readBounded(answer);
    if (!answer.ok) {
      const challenge = answer.headers.get("www-authenticate");
      const said = challenge === null ? quoted(text, 200) : quoted(challenge, 200);
      return unreadable(`status ${answer.status} ${said}`, causes[answer.status] ?? "failed");
    }
  } catch (error) {
    if (error instanceof TypeError || signal.aborted) return unreadable("no answer", "failed", error);
    throw error;
  }
  const value = parse(text);
  if (typeof value === "object" && value !== null && !Array.isArray(value)) return value as JsonObject;
  return unreadable(`${quoted(text, 80)}, which is no JSON object,`, "not-json");
}

const causes: Readonly<Record<number, CauseOf<"connection.account-unreadable">>> = {
  401: "token-refused",
  403: "token-refused",
  404: "not-there",
  405: "not-there",
  410: "not-there",
};

async function readBounded(answer: Response): Promise<string> {
  const reader = answer.body?.getReader();
  const decoder = new TextDecoder();
  let [text, length] = ["", 0];
  for (;;) {
    const part = await reader?.read();
    if (!part || part.done) return text;
    length += (part.value as Uint8Array).byteLength;
    text += decoder.decode(part.value, { stream: true });
    if (length <= longestDescription) continue;
    await reader?.cancel();
    fail("connection.account-unreadable", { received: `more than ${longestDescription} bytes` });
  }
}

function parse(text: string): unknown {
  try {
    return JSON.parse(text) as unknown;
  } catch {
    return undefined;
  }
}

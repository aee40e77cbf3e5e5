import { validateLogoutToken } from "../../identity/index.js";
import { limits } from "../../platform/index.js";
import { fail, quoted, quotedList } from "../../problem/index.js";
import { checkIssuer } from "../../provider/index.js";
import { hashId } from "../../session/index.js";
import { check, note } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import { endAll, releaseLater } from "../sessions/ending.js";
import { readForm } from "../../trace/index.js";

/**
 * The provider tells, from server to server, that somebody signed out there: OpenID Connect Back-Channel Logout 1.0
 * sections 2.5–2.8. Their sessions here end, and what those held is taken back (2.7).
 *
 * @throws provider.unknown, identity.logout-token-refused, identity.issuer-mismatch, jose.*, store.unavailable
 */
export async function backChannelRoute(context: Context, request: Request, name: string): Promise<Response> {
  const { tools, store, answers } = context;
  const provider = await context.providers.open(name);
  const token = (await readForm(tools, request, limits.notice)).getAll("logout_token");
  if (token.length !== 1 || !token[0])
    fail("identity.logout-token-refused", {
      received: `${token.length} logout tokens, content type ${quoted(request.headers.get("content-type") ?? undefined, 60)}`,
      because: "absent",
    });
  const notice = await validateLogoutToken(provider, token[0]);
  // 2.6 step 7: the same notice counts once; told again, it has been followed. It is marked when it has been: the provider
  // tells again where the store was away in between.
  const { issuer, subject, providerSessionId, id, expiresAt } = notice;
  const mark = `logout/${await hashId(tools.platform, `${issuer} ${id}`)}`;
  const now = tools.platform.now();
  const isFollowed = await store.isMarked(mark, now);
  check(tools, "identity.logout-token-refused", !isFollowed, () => ({
    received: isFollowed ? "the same notice again" : "a new notice",
    expected: "a new jti",
    because: "again" as const,
  }));
  const { count, held } = await endAll(context, {
    issuer,
    ...(subject !== undefined && { subject }),
    ...(providerSessionId !== undefined && { providerSessionId }),
  });
  releaseLater(context, held);
  await store.useMark(mark, expiresAt + 3600, now);
  note(tools, "server", "signed out by the provider", { provider: name, sessions: String(count) });
  // 2.8: 200, and nothing of it may be cached.
  return answers.json({}, 200);
}

/**
 * The provider shows this page in a frame when somebody signs out there: OpenID Connect Front-Channel Logout 1.0
 * section 3. Today's browsers send no cookie into such a frame, so what ends is the session that `sid` names.
 *
 * @throws provider.unknown, identity.front-channel-refused, store.unavailable
 */
export async function frontChannelRoute(context: Context, request: Request, name: string): Promise<Response> {
  const provider = await context.providers.open(name);
  const { searchParams } = new URL(request.url);
  const [iss, sid] = [searchParams.get("iss"), searchParams.get("sid")];
  // Section 2: both or neither; without them nobody can be meant.
  if (iss === null || sid === null || sid === "" || sid.length > limits.tokenId)
    fail("identity.front-channel-refused", {
      received: `the parameters ${quotedList([...searchParams.keys()]) ?? "(none)"}`,
    });
  checkIssuer(context.tools, "identity.front-channel-refused", provider, iss);
  const { count, held } = await endAll(context, { issuer: iss, providerSessionId: sid });
  releaseLater(context, held);
  note(context.tools, "server", "signed out by the provider", { provider: name, sessions: String(count) });
  const ancestor = new URL(provider.metadata.end_session_endpoint ?? provider.issuer).origin;
  return new Response("", {
    headers: {
      "cache-control": "no-store",
      "content-type": "text/plain; charset=utf-8",
      "content-security-policy": `default-src 'none'; frame-ancestors ${ancestor}`,
      "referrer-policy": "no-referrer",
      "x-content-type-options": "nosniff",
    },
  });
}

/** A refusal as Back-Channel Logout 1.0 section 2.8 has it. */
export function refuseNotice({ answers }: Context, code: string): Response {
  // RFC 6749 appendix A.8: neither quotes nor backslashes; a code has none.
  return answers.json({ error: "invalid_request", error_description: code }, 400);
}

import { refreshGrant, type Grant } from "../grant/index.js";
import { compareRefreshedIdToken, isAboutIdToken } from "../identity/index.js";
import type { JsonObject } from "../jose/index.js";
import { fail, isProblem } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import type { Provider } from "../provider/index.js";
import {
  apiTokenPlace,
  seal,
  sealGrant,
  type ApiTokenRecord,
  type ConnectionRecord,
} from "../session/index.js";
import { note } from "../trace/index.js";
import { holderOf, requireConnection, tell, type Connecting } from "./connecting.js";
import { endConnection } from "./end-connection.js";
import type { HeldLease } from "./hold-lease.js";
import { askedFor, unsealGrant, type Wanted } from "./tokens.js";
import { writeRenewal } from "./write-renewal.js";

/**
 * Sends the refresh token, under the lease, and keeps what comes of it.
 *
 * @returns `again` where this process stood still for so long that it must not send any more
 * @throws connection.ended, connection.none, identity.refreshed-otherwise, grant.*, platform.*, session.seal-*,
 *   store.unavailable
 */
export async function renew(
  connecting: Connecting,
  connection: ConnectionRecord,
  wanted: Wanted,
  provider: Provider,
  lease: HeldLease,
): Promise<ConnectionRecord | "again"> {
  const grant = await unsealGrant(connecting, connection, provider);
  let renewed: Grant;
  try {
    const fresh = await refreshGrant(provider, grant, wanted, lease.mayStart);
    renewed = fresh.context ? await withContext(connecting, provider, grant, fresh) : fresh;
  } catch (error) {
    if (isProblem(error, "connection.busy")) return "again";
    if (isProblem(error, "grant.refresh-refused"))
      return believeRefusal(connecting, connection, lease, error.problem.received ?? "");
    throw error;
  }
  const idClaims = await requireSamePerson(connecting, connection, provider, lease, {
    before: grant,
    renewed,
  });
  const columns = await columnsOf(connecting, connection, wanted, renewed);
  const { name, number } = lease;
  const written = await writeRenewal(
    connecting,
    { base: connection, columns, lease: { name, number } },
    lease,
  );
  if (written) {
    const isForApi = askedFor(wanted) !== "";
    await connecting.onRenewed?.({ connection: written, provider, grant: renewed, idClaims, isForApi });
    return written;
  }
  // The person signed out, or was removed: what the refresh brought is nobody's.
  await connecting.takeBack(connection.provider, renewed);
  return fail("connection.none", { received: `no connection at ${connection.provider} any more` });
}

/** With the context that is to be kept: at hosts only, which few apps have. */
async function withContext(
  { tools }: Connecting,
  { host }: Provider,
  before: Grant,
  fresh: Grant,
): Promise<Grant> {
  const { renewContext } = await loadPart(import("../launch/index.js"));
  const { context: _context, ...tokens } = fresh;
  const context = renewContext(tools, host, before.context, fresh.context);
  return { ...tokens, ...(context && { context }) };
}

/** What a refresh changes of a connection: its own tokens, or its refresh token and the access token of one API. */
async function columnsOf(
  connecting: Connecting,
  connection: ConnectionRecord,
  wanted: Wanted,
  renewed: Grant,
): Promise<Partial<ConnectionRecord>> {
  const { tools, ring } = connecting;
  const asked = askedFor(wanted);
  // The ID token stays the one of the sign-in: it is what the provider's sign-out is given as a hint.
  const { idToken: _compared, ...tokens } = renewed;
  const columns = await sealGrant(connecting, connection, tokens);
  if (asked === "") return columns;
  const { accessToken, scope, obtainedAt, expiresAt } = renewed;
  const token: ApiTokenRecord = {
    asked,
    scope,
    obtainedAt,
    ...(expiresAt !== undefined && { expiresAt }),
    sealedAccessToken: await seal(tools, ring, apiTokenPlace(connection, wanted.name), accessToken),
  };
  const { sealedRefreshToken } = columns;
  return {
    ...(sealedRefreshToken !== undefined && { sealedRefreshToken }),
    apiTokens: { [wanted.name]: token },
  };
}

/**
 * An ID token that came along is about the person that the connection is of, or the connection ends.
 *
 * @returns what it says
 */
async function requireSamePerson(
  connecting: Connecting,
  connection: ConnectionRecord,
  provider: Provider,
  lease: HeldLease,
  { before, renewed }: { readonly before: Grant; readonly renewed: Grant },
): Promise<JsonObject | undefined> {
  const { idToken } = renewed;
  if (idToken === undefined || idToken === before.idToken) return undefined;
  try {
    const { accessToken } = renewed;
    const original = { subject: connection.subject, idToken: before.idToken };
    return await compareRefreshedIdToken(provider, { idToken, accessToken }, original);
  } catch (error) {
    if (!isProblem(error)) throw error;
    const { code, received = "" } = error.problem;
    // The tokens came from the token endpoint all the same.
    if (!isAboutIdToken(error.problem)) {
      note(connecting.tools, "connection", "an ID token that could not be validated was left out", {
        problem: code,
      });
      return undefined;
    }
    await connecting.takeBack(connection.provider, renewed);
    return endConnection(connecting, connection, lease, received, code);
  }
}

/** A refusal counts only if the refused token is still the stored one. */
async function believeRefusal(
  connecting: Connecting,
  refused: ConnectionRecord,
  lease: HeldLease,
  received: string,
): Promise<ConnectionRecord> {
  const current = await requireConnection(connecting, holderOf(refused), refused.provider);
  if (current.version !== refused.version) {
    tell(connecting, current, "refused");
    return current;
  }
  return endConnection(connecting, refused, lease, received);
}

import { fail, quoted } from "../../problem/index.js";
import {
  randomId,
  seal,
  sealGrant,
  tokenPlace,
  type Granted,
  type KeptConnection,
  type TokenOwner,
} from "../../session/index.js";
import { unsealReplaced, unsealToken } from "../../connection/index.js";
import { wasForgotten } from "../sessions/ending.js";
import { note } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import { personOf } from "./person-of.js";
import { readAccount } from "./read-account.js";

/**
 * The provider has allowed it: from now on the account belongs to the person. What they had of the same account before is
 * replaced; its tokens are taken back together with the new ones, in the end, for a provider may count both as one.
 *
 * @param asked who asked, and about which of their accounts, where it was about one
 * @throws connection.person-changed, connection.other-account, connection.account-*, platform.*, store.unavailable
 */
export async function keepAccount(
  context: Context,
  request: Request,
  name: string,
  asked: { readonly personId: string; readonly account: string | undefined; readonly beganAt: number },
  granted: Granted,
): Promise<void> {
  const { tools, store, environment } = context;
  // Whoever asked is whoever is here, still: nobody's account ends up in somebody else's list.
  const personId = await personOf(context, request);
  if (personId !== asked.personId)
    fail("connection.person-changed", {
      received: personId === undefined ? "nobody who is signed in" : "another person",
      because: personId === undefined && context.ownPersonOf ? "own-sign-in" : undefined,
    });
  const account = await readAccount(context, name, granted);
  // Asked about one account, a person has agreed to another: what they agreed to is about that one.
  const query = { provider: name, environment, account: account.account };
  if (asked.account !== undefined && account.account !== asked.account)
    fail("connection.other-account", {
      received: quoted(account.accountName ?? account.account, 80),
      expected: `the account ${quoted(asked.account, 80)}`,
      because:
        (await store.findAllKept({ ...query, personId }, { most: 1 })).length > 0 ? "connected" : undefined,
    });
  const isAnothers = async () =>
    context.settings.connections[name]?.shared === false &&
    (await store.findAllKept(query, { most: 2 })).some((each) => each.personId !== personId);
  const refuse = () =>
    fail("connection.account-taken", { received: quoted(account.accountName ?? account.account) });
  if (await isAnothers()) refuse();
  const [before] = await store.findAllKept({ ...query, personId });
  const id = randomId(tools.platform, 16);
  const { grant, identity, kept = {}, notGranted = "" } = granted;
  const record: KeptConnection = {
    id,
    personId,
    provider: name,
    environment,
    ...account,
    subject: identity.subject,
    status: "active",
    connectedAt: before?.connectedAt ?? Math.floor(tools.platform.now()),
    refreshCount: 0,
    version: 1,
    ...(Object.keys(kept).length > 0 && { kept }),
    ...(notGranted !== "" && { notGranted }),
    ...(await sealGrant(context, { id, personId, provider: name }, grant)),
    ...(await sealReplaced(context, { id, personId, provider: name }, before)),
  };
  await store.keepConnection(record);
  // Whoever was removed while the provider was asked has removed what was there, and not yet this.
  const isGone = async () =>
    (await wasForgotten(context, personId, asked.beganAt)) ||
    (!context.ownPersonOf && (await personOf(context, request)) !== personId);
  if (await isGone()) {
    await store.dropKept(id);
    fail("connection.person-changed", { received: "somebody who was removed, or has signed out, meanwhile" });
  }
  // Of two who connect it in one moment each sees the other, or one does: neither is let have it beside the other.
  if (await isAnothers()) {
    await store.dropKept(id);
    refuse();
  }
  note(tools, "server", "connected", { provider: name, connection: id });
}

/** More grants for one account than anybody makes by hand. */
const mostReplaced = 20;

/** The tokens that the account had before, where they may be good still, with those before them. */
async function sealReplaced(
  context: Context,
  owner: TokenOwner,
  before: KeptConnection | undefined,
): Promise<Pick<KeptConnection, "sealedReplaced">> {
  if (!before) return {};
  const { tools, ring } = context;
  const earlier = await unsealReplaced(context, before);
  const refreshToken = await unsealToken(context, before, "refresh-token");
  const accessToken =
    refreshToken === undefined ? await unsealToken(context, before, "access-token") : undefined;
  const last = {
    ...(refreshToken !== undefined && { refreshToken }),
    ...(accessToken !== undefined && { accessToken }),
  };
  const all = [...(before.status === "active" ? [last] : []), ...earlier].slice(0, mostReplaced);
  if (all.length === 0) return {};
  return { sealedReplaced: await seal(tools, ring, tokenPlace(owner, "replaced"), JSON.stringify(all)) };
}

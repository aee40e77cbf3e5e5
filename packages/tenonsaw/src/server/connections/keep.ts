import { fail, quoted } from "../../problem/index.js";
import { randomId, sealGrant, type Granted, type KeptConnection } from "../../session/index.js";
import { note } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import { personOf } from "./person-of.js";
import { readAccount } from "./read-account.js";

/**
 * The provider has allowed it: from now on the account belongs to the person. What they had of the same account before is
 * replaced; its tokens are not taken back, for a provider may count both as one.
 *
 * @param asked who asked, and about which of their accounts, where it was about one
 * @throws connection.person-changed, connection.other-account, connection.account-*, platform.*, store.unavailable
 */
export async function keepAccount(
  context: Context,
  request: Request,
  name: string,
  asked: { readonly personId: string; readonly account: string | undefined },
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
      because: (await store.findAllKept({ ...query, personId })).length > 0 ? "connected" : undefined,
    });
  const isAnothers = async () =>
    context.settings.connections[name]?.shared === false &&
    (await store.findAllKept(query)).some((each) => each.personId !== personId);
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
  };
  await store.keepConnection(record);
  // Of two who connect it in one moment each sees the other, or one does: neither is let have it beside the other.
  if (await isAnothers()) {
    await store.dropKept(id);
    refuse();
  }
  note(tools, "server", "connected", { provider: name, connection: id });
}

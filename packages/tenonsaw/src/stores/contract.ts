import assert from "node:assert/strict";
import { isProblem } from "../problem/index.js";
import type {
  AttemptRecord,
  ConnectionRecord,
  KeptConnection,
  ListPart,
  SessionQuery,
  SignInRecords,
  Store,
} from "../session/index.js";
import { tombstoneOf } from "../session/index.js";

/** One thing that every store holds to. */
export interface StoreClause {
  readonly name: string;
  /**
   * Tries it on stores that `open` makes, each empty at first, and closes them.
   *
   * @throws AssertionError where the store does otherwise
   */
  readonly run: (open: () => Promise<Store>) => Promise<void>;
}

/** An instant to stand on, in seconds since the epoch: far enough ahead that no store throws it away as over. */
const noon = 4_000_000_000;
const issuer = "https://id.quayside.example";
const many = 20;

const attempt: AttemptRecord = {
  id: "attempt-1",
  browserHash: "browser",
  provider: "quayside",
  host: "localhost:5173",
  returnTo: "/tides",
  sealedAttempt: "a..b.c.d",
  beganAt: noon,
  expiresAt: noon + 600,
};

interface Changes {
  readonly subject?: string;
  readonly personId?: string;
  readonly name?: string;
  readonly at?: number;
}

function signIn(session: string, changes: Changes = {}): SignInRecords & { readonly connection: object } {
  const { subject = "qs-10231", personId = `person-${session}`, at = noon } = changes;
  return {
    personId,
    profile: changes.name === undefined ? {} : { name: changes.name },
    identity: { issuer, subject, provider: "quayside" },
    session: {
      id: session,
      provider: "quayside",
      issuer,
      subject,
      providerSessionId: `sid-${session}`,
      createdAt: at,
      expiresAt: at + 3600,
    },
    connection: connectionOf(session, "quayside", subject, at),
  };
}

function connectionOf(sessionId: string, provider: string, subject: string, at = noon) {
  const record: Omit<ConnectionRecord, "personId"> = {
    id: `connection-${sessionId}-${provider}`,
    sessionId,
    provider,
    subject,
    scope: "openid tides.read",
    status: "active",
    obtainedAt: at,
    expiresAt: at + 30,
    refreshCount: 0,
    sealedAccessToken: "at..sealed",
    sealedRefreshToken: "rt..sealed",
    sealedContext: "context..sealed",
    apiTokens: {
      tidebook: {
        asked: "scope=tides.read",
        scope: "tides.read",
        obtainedAt: at,
        sealedAccessToken: "at2..sealed",
      },
    },
    version: 1,
  };
  return record;
}

/** A connection that belongs to a person of whom the store need know nothing else. */
function keptOf(id: string, changes: Partial<KeptConnection> = {}): KeptConnection {
  const { sessionId: _none, ...rest } = connectionOf("", "ledgerhouse", "lh-1");
  const own = { account: "company-7", environment: "", connectedAt: noon, confirmedAt: noon + 1 };
  return { ...rest, personId: "member-1", ...own, accountName: "Ferrywell e.V.", ...changes, id };
}

function clause(
  name: string,
  work: (store: Store, open: () => Promise<Store>) => Promise<void>,
): StoreClause {
  return {
    name,
    async run(open) {
      const store = await open();
      try {
        await work(store, open);
      } finally {
        await store.close();
      }
    },
  };
}

/** Signs in as the library does: whoever the identity is of already, and else somebody new. */
async function enter(store: Store, records: SignInRecords) {
  for (;;) {
    const { issuer: from, subject } = records.identity;
    const personId = (await store.findIdentity(from, subject))?.personId ?? records.personId;
    const written = await store.saveSignIn({ ...records, personId });
    if (written) return written;
  }
}

/** So many callers at the same moment; how many of them were told yes. */
async function countWinners(call: (index: number) => Promise<unknown>): Promise<number> {
  const answers = await Promise.all(Array.from({ length: many }, (_, index) => call(index)));
  return answers.filter((answer) => answer === true).length;
}

/**
 * What a store has to do, for tests of one's own: with Vitest,
 * `it.each(storeContract)("$name", ({ run }) => run(openMyStore))`.
 */
export const storeContract: readonly StoreClause[] = [
  clause("keeps an attempt and lets it be used once, however many try", async (store) => {
    assert.equal(await store.findAttempt("attempt-1"), undefined);
    assert.equal(await store.useAttempt("attempt-1", noon), false);
    await store.addAttempt(attempt, many);
    assert.deepEqual(await store.findAttempt("attempt-1"), attempt);
    assert.equal(await countWinners((index) => store.useAttempt("attempt-1", noon + index)), 1);
    assert.notEqual((await store.findAttempt("attempt-1"))?.usedAt, undefined);
  }),

  clause("keeps so many open attempts of one browser, and lets the oldest go", async (store) => {
    const add = (id: string, changes: Partial<AttemptRecord> = {}) =>
      store.addAttempt({ ...attempt, id, ...changes }, 2);
    await add("other", { browserHash: "another browser" });
    await add("used");
    await store.useAttempt("used", noon);
    await add("first");
    await add("second", { beganAt: noon + 1 });
    await add("third", { beganAt: noon + 2, ending: "pop-up", linkSessionId: "s1" });
    const left: string[] = [];
    for (const id of ["other", "used", "first", "second", "third"])
      if (await store.findAttempt(id)) left.push(id);
    assert.deepEqual(left, ["other", "used", "second", "third"]);
    const { ending, linkSessionId } = (await store.findAttempt("third")) ?? attempt;
    assert.deepEqual([ending, linkSessionId], ["pop-up", "s1"]);
  }),

  clause(
    "makes a person at the first visit and finds them by issuer and subject after that",
    async (store) => {
      const first = await enter(store, signIn("s1", { name: "Maren" }));
      assert.deepEqual(first, { person: { id: "person-s1", name: "Maren", createdAt: noon }, held: [] });
      const again = await enter(store, signIn("s2", { name: "Maren Holt", at: noon + 99 }));
      assert.deepEqual(again.person, { id: "person-s1", name: "Maren Holt", createdAt: noon });
      const other = await enter(store, signIn("s3", { subject: "qs-10447" }));
      assert.equal(other.person.id, "person-s3");
      assert.deepEqual(await store.findIdentity(issuer, "qs-10231"), {
        issuer,
        subject: "qs-10231",
        provider: "quayside",
        personId: "person-s1",
        createdAt: noon,
        lastSignInAt: noon + 99,
      });
      assert.equal(await store.findIdentity("https://evil.example", "qs-10231"), undefined);
      // Whoever thinks it is somebody else's is told, and nothing is written.
      assert.equal(await store.saveSignIn(signIn("s4", { personId: "person-s3" })), undefined);
      assert.equal(await store.findSession("s4"), undefined);
    },
  ),

  clause("makes one person of two first visits at the same moment", async (store) => {
    const people = await Promise.all(
      Array.from({ length: many }, (_, index) => enter(store, signIn(`s${index}`))),
    );
    assert.equal(new Set(people.map(({ person }) => person.id)).size, 1);
    assert.equal((await store.findSessions({ personId: people[0]?.person.id ?? "" })).length, many);
  }),

  clause("forgets a name that the provider does not tell any more", async (store) => {
    await enter(store, signIn("s1", { name: "Maren" }));
    assert.deepEqual((await enter(store, signIn("s2"))).person, { id: "person-s1", createdAt: noon });
  }),

  clause("finds a session with its person, and ends it with all it holds", async (store) => {
    const { connection, ...rest } = signIn("s1", { name: "Zoë 🚣" });
    await enter(store, { ...rest, connection });
    await enter(store, signIn("s2"));
    assert.deepEqual((await store.findSession("s1"))?.session, { ...rest.session, personId: "person-s1" });
    assert.deepEqual(await store.findConnection("s1", "quayside"), { ...connection, personId: "person-s1" });
    assert.deepEqual(await store.endSession("s1"), [{ ...connection, personId: "person-s1" }]);
    assert.equal(await store.findSession("s1"), undefined);
    assert.equal(await store.findConnection("s1", "quayside"), undefined);
    assert.deepEqual(await store.endSession("s1"), []);
    assert.notEqual(await store.findSession("s2"), undefined);
  }),

  clause("keeps a session without a connection, where there was no access token", async (store) => {
    const { connection: _none, ...records } = signIn("s1");
    await enter(store, records);
    assert.notEqual(await store.findSession("s1"), undefined);
    assert.equal(await store.findConnection("s1", "quayside"), undefined);
    assert.deepEqual(await store.endSession("s1"), []);
  }),

  clause("gives back all that it was given of a session and its person", async (store) => {
    const { session, ...rest } = signIn("s1");
    const full = {
      ...session,
      authenticatedAt: noon - 60,
      authenticationClass: "urn:quayside:two-factor",
      claims: { roles: ["harbour-master"], tenant: "ferrywell" },
      kind: "counter",
      device: "A browser",
    };
    const profile = {
      name: "Maren Holt",
      email: "maren.holt@ferrywell.example",
      picture: "https://id.quayside.example/maren.png",
    };
    await enter(store, { ...rest, profile, session: full });
    const kept = {
      session: { ...full, personId: "person-s1" },
      person: { ...profile, id: "person-s1", createdAt: noon },
    };
    assert.deepEqual(await store.findSession("s1"), kept);
    assert.deepEqual(await store.findSessions({ personId: "person-s1" }), [kept]);
  }),

  clause("notes what changes of a session, each by itself, and makes none anew for it", async (store) => {
    const { session, ...rest } = signIn("s1");
    const before = { ...session, device: "A browser", claims: { roles: ["harbour-master"] } };
    await enter(store, { ...rest, session: before });
    const claims = { roles: ["member"] };
    await Promise.all([
      store.changeSession("s1", { lastSeenAt: noon + 60 }),
      store.changeSession("s1", { claims }),
      store.changeSession("s1", {}),
    ]);
    const changed = { ...before, personId: "person-s1", lastSeenAt: noon + 60, claims };
    assert.deepEqual((await store.findSession("s1"))?.session, changed);
    await store.endSession("s1");
    await store.changeSession("s1", { lastSeenAt: noon + 120 });
    assert.equal(await store.findSession("s1"), undefined);
  }),

  clause("finds the sessions of a person, of a provider, or all, the newest first", async (store) => {
    await enter(store, signIn("s1"));
    await enter(store, signIn("s2", { subject: "qs-10447", at: noon + 5 }));
    await enter(store, signIn("s3", { at: noon + 10 }));
    const ids = async (query: SessionQuery) =>
      (await store.findSessions(query)).map(({ session }) => session.id);
    assert.deepEqual(await ids({}), ["s3", "s2", "s1"]);
    assert.deepEqual(await ids({ personId: "person-s1" }), ["s3", "s1"]);
    assert.deepEqual(await ids({ personId: "person-s1", provider: "quayside" }), ["s3", "s1"]);
    assert.deepEqual(await ids({ provider: "harbour" }), []);
    assert.deepEqual(await ids({ issuer, subject: "qs-10447" }), ["s2"]);
    assert.deepEqual(await ids({ issuer, providerSessionId: "sid-s3" }), ["s3"]);
    assert.deepEqual(await ids({ issuer: "https://evil.example", subject: "qs-10447" }), []);
    assert.equal((await store.findSessions({}))[2]?.person.id, "person-s1");
  }),

  clause("gives lists in parts, of which none leaves a record out", async (store) => {
    // Several in one second are listed by when they were written.
    const names = Array.from({ length: 7 }, (_, index) => `s${index}`);
    for (const [index, name] of names.entries())
      await enter(store, signIn(name, { at: noon + Math.floor(index / 3) }));
    for (const [index, name] of names.entries())
      await store.keepConnection(keptOf(name, { account: name, connectedAt: noon + Math.floor(index / 3) }));
    const lists: [
      string,
      (part: ListPart) => Promise<readonly { readonly id: string; readonly at: number }[]>,
    ][] = [
      [
        "sessions",
        async (part) =>
          (await store.findSessions({ provider: "quayside" }, part)).map(({ session }) => ({
            id: session.id,
            at: session.createdAt,
          })),
      ],
      [
        "connections",
        async (part) =>
          (await store.findAllKept({ personId: "member-1" }, part)).map(({ id, connectedAt: at }) => ({
            id,
            at,
          })),
      ],
    ];
    for (const [what, list] of lists) {
      const all = (await list({})).map(({ id }) => id);
      assert.deepEqual(all, names.toReversed(), what);
      for (const most of [1, 2, 3]) {
        const seen: string[] = [];
        let after: ListPart["after"];
        for (let part = await list({ most }); part.length > 0; part = await list({ most, after })) {
          assert.ok(part.length <= most, what);
          seen.push(...part.map(({ id }) => id));
          after = part.at(-1);
        }
        assert.deepEqual(seen, all, `${what}, ${most} at a time`);
      }
    }
    // What the last part ended with may be gone meanwhile.
    await store.endSession("s4");
    const rest = await store.findSessions({}, { after: { id: "s4", at: noon + 1 } });
    const ids = rest.map(({ session }) => session.id);
    for (const name of ["s3", "s2", "s1", "s0"]) assert.ok(ids.includes(name), name);
    assert.ok(!ids.includes("s6"));
  }),

  clause(
    "links a further identity to the person of a session, and never one that is somebody else's",
    async (store) => {
      await enter(store, signIn("s1"));
      await enter(store, signIn("s2", { subject: "qs-10447" }));
      const identity = { issuer: "https://harbour.example", subject: "hu-7", provider: "harbour" };
      const connection = connectionOf("s1", "harbour", "hu-7");
      const link = { sessionId: "s1", identity, at: noon + 5, connection };
      assert.deepEqual(await store.linkIdentity({ ...link, sessionId: "nowhere" }), { kind: "gone" });
      assert.deepEqual(await store.linkIdentity(link), { kind: "linked", held: [] });
      const { connection: _own, ...bare } = link;
      assert.deepEqual(await store.linkIdentity({ ...bare, sessionId: "s2" }), { kind: "taken" });
      assert.equal((await store.findIdentity(identity.issuer, "hu-7"))?.personId, "person-s1");
      assert.deepEqual(
        (await store.findIdentities("person-s1")).map(({ provider }) => provider),
        ["quayside", "harbour"],
      );
      assert.equal((await store.findConnection("s1", "harbour"))?.personId, "person-s1");
      // Once more: the newer connection of the same account stays; of another account it does not come in its place.
      assert.deepEqual(await store.linkIdentity({ ...link, connection: { ...connection, id: "newer" } }), {
        kind: "linked",
        held: [{ ...connection, personId: "person-s1" }],
      });
      assert.equal((await store.findConnection("s1", "harbour"))?.id, "newer");
      const second = { ...identity, subject: "hu-8" };
      const foreign = { ...connectionOf("s1", "harbour", "hu-8"), id: "foreign" };
      assert.deepEqual(await store.linkIdentity({ ...link, identity: second, connection: foreign }), {
        kind: "linked",
        held: [],
      });
      assert.equal((await store.findConnection("s1", "harbour"))?.id, "newer");
      // Whoever signs in with the linked identity is the same person.
      const { connection: _none, ...again } = signIn("s3");
      assert.equal((await enter(store, { ...again, identity })).person.id, "person-s1");
    },
  ),

  clause(
    "unlinks an identity with all that hangs on it, and never the last one that can be used",
    async (store) => {
      await enter(store, signIn("s1"));
      const personId = "person-s1";
      const harbour = { issuer: "https://harbour.example", subject: "hu-7", provider: "harbour" };
      const quayside = { issuer, subject: "qs-10231" };
      const both = ["quayside", "harbour"];
      const link = {
        sessionId: "s1",
        identity: harbour,
        at: noon + 1,
        connection: connectionOf("s1", "harbour", "hu-7"),
      };
      await store.linkIdentity(link);
      await enter(store, signIn("s4", { at: noon + 1 }));
      assert.equal(await store.unlinkIdentity({ personId, ...quayside }, ["quayside"]), undefined);
      assert.equal(await store.unlinkIdentity({ personId: "somebody", ...quayside }, both), undefined);
      assert.equal(await store.unlinkIdentity({ personId, ...quayside, subject: "hu-7" }, both), undefined);
      const held = await store.unlinkIdentity({ personId, issuer: harbour.issuer, subject: "hu-7" }, both);
      assert.deepEqual(
        held?.map(({ id }) => id),
        ["connection-s1-harbour"],
      );
      assert.equal(await store.findConnection("s1", "harbour"), undefined);
      assert.notEqual(await store.findSession("s1"), undefined);
      assert.equal(await store.unlinkIdentity({ personId, ...quayside }, both), undefined);
      // Linked once more, the first one can go: its sessions go with it.
      const { connection: _none, ...bare } = link;
      await store.linkIdentity(bare);
      const gone = await store.unlinkIdentity({ personId, ...quayside }, both);
      assert.deepEqual(gone?.map(({ id }) => id).sort(), [
        "connection-s1-quayside",
        "connection-s4-quayside",
      ]);
      assert.deepEqual(
        [await store.findSession("s1"), await store.findSession("s4")],
        [undefined, undefined],
      );
      assert.equal((await store.findIdentities(personId)).length, 1);
    },
  ),

  clause("replaces a connection once per version, however many try", async (store) => {
    await enter(store, signIn("s1"));
    const found = await store.findConnection("s1", "quayside");
    assert.ok(found);
    const { sealedRefreshToken: _gone, expiresAt: _open, ...bare } = found;
    const writes = await Promise.all(
      Array.from({ length: many }, (_, index) =>
        store.replaceConnection({ ...bare, version: 2, refreshCount: index }),
      ),
    );
    assert.equal(writes.filter(Boolean).length, 1);
    const written = await store.findConnection("s1", "quayside");
    assert.deepEqual(written, { ...bare, version: 2, refreshCount: writes.indexOf(true) });
    assert.equal(await store.replaceConnection({ ...bare, version: 2 }), false);
    assert.equal(await store.replaceConnection({ ...bare, id: "other", sessionId: "s9", version: 1 }), false);
    await store.endSession("s1");
    assert.equal(await store.replaceConnection({ ...bare, version: 3 }), false);
  }),

  clause(
    "hands on what a session holds elsewhere to the one that follows it, of the same person",
    async (store) => {
      await enter(store, signIn("s1"));
      const identity = { issuer: "https://other.example", subject: "o-1", provider: "other" };
      const linked = { sessionId: "s1", identity, at: noon };
      await store.linkIdentity({ ...linked, connection: connectionOf("s1", "other", "o-1") });
      const before = await store.findConnection("s1", "other");
      const { held } = await enter(store, { ...signIn("s2"), previousSessionId: "s1" });
      assert.deepEqual(
        held.map(({ id }) => id),
        ["connection-s1-quayside"],
      );
      assert.equal(await store.findSession("s1"), undefined);
      assert.equal(await store.findConnection("s1", "other"), undefined);
      assert.deepEqual(await store.findConnection("s2", "other"), { ...before, sessionId: "s2" });
      assert.equal((await store.findConnection("s2", "quayside"))?.id, "connection-s2-quayside");
      // Whoever renewed it meanwhile knows the session from before: it stays with the new one.
      assert.ok(before);
      assert.equal(await store.replaceConnection({ ...before, refreshCount: 1, version: 2 }), true);
      assert.deepEqual(await store.findConnection("s2", "other"), {
        ...before,
        sessionId: "s2",
        refreshCount: 1,
        version: 2,
      });
      // And on once more; but not to somebody else.
      await enter(store, { ...signIn("s3"), previousSessionId: "s2" });
      assert.equal((await store.findConnection("s3", "other"))?.version, 2);
      const taken = await enter(store, { ...signIn("s4", { subject: "qs-10447" }), previousSessionId: "s3" });
      assert.equal(taken.held.length, 2);
      assert.equal(await store.findConnection("s4", "other"), undefined);
      assert.equal(await store.findSession("s3"), undefined);
      assert.equal((await store.endSession("s4")).length, 1);
    },
  ),

  clause("notes a mark once until it expires, however many try", async (store) => {
    const isMarked = (at: number) => store.isMarked("logout/x", at);
    assert.equal(await isMarked(noon), false);
    assert.equal(await countWinners(() => store.useMark("logout/x", noon + 60, noon)), 1);
    assert.deepEqual(
      [await isMarked(noon), await isMarked(noon + 59), await isMarked(noon + 60)],
      [true, true, false],
    );
    assert.equal(await store.useMark("logout/x", noon + 120, noon + 60), true);
    await store.sweep(noon + 120, many);
    assert.equal(await store.useMark("logout/x", noon + 180, noon + 120), true);
  }),

  clause("gives a lease to one at a time, and to another when it is over or given back", async (store) => {
    const kindOf = async (name: string, owner: string, seconds: number) =>
      (await store.takeLease(name, owner, seconds, 1000)).kind;
    const answers = await Promise.all(
      Array.from({ length: many }, (_, index) => kindOf("refresh/c1", `owner-${index}`, 60)),
    );
    assert.equal(answers.filter((each) => each === "taken").length, 1);
    assert.equal(answers.filter((each) => each === "held").length, many - 1);
    const owner = `owner-${answers.indexOf("taken")}`;
    assert.equal(await kindOf("refresh/c2", "somebody", 60), "taken");
    // Nobody gives back what is another's.
    await store.releaseLease("refresh/c1", "somebody");
    assert.equal(await kindOf("refresh/c1", "somebody", 60), "held");
    await store.releaseLease("refresh/c1", owner);
    assert.equal(await kindOf("refresh/c1", "next", 0.05), "taken");
    await new Promise((resolve) => setTimeout(resolve, 150));
    // The one before did not give it back: it is dead, or too late.
    assert.equal(await kindOf("refresh/c1", "heir", 60), "taken over");
    await store.releaseLease("refresh/c1", "next");
    assert.equal(await kindOf("refresh/c1", "somebody", 60), "held");
  }),

  clause("writes under a lease as long as nobody else has taken it, run out or not", async (store) => {
    await enter(store, signIn("s1"));
    const found = await store.findConnection("s1", "quayside");
    assert.ok(found);
    const name = "refresh/c1";
    const take = async (owner: string, seconds: number) => {
      const answer = await store.takeLease(name, owner, seconds, 1000);
      return answer.kind === "held" ? assert.fail("held") : { name, number: answer.number };
    };
    const write = (version: number, lease: { name: string; number: number }) =>
      store.replaceConnection({ ...found, version, renewedUnder: lease.number }, lease);
    const first = await take("first", 0.05);
    await new Promise((resolve) => setTimeout(resolve, 150));
    assert.equal(await write(2, first), true);
    const second = await take("second", 60);
    assert.ok(second.number > first.number);
    assert.equal(await write(3, first), false);
    assert.equal(await write(3, { ...second, name: "refresh/other" }), false);
    assert.equal(await write(3, second), true);
    assert.equal((await store.findConnection("s1", "quayside"))?.renewedUnder, second.number);
    await store.releaseLease(name, "second");
    // Given back, it is nobody's; and the next one has a higher number all the same.
    assert.equal(await write(4, second), false);
    assert.ok((await take("third", 60)).number > second.number);
  }),

  clause(
    "keeps a person's own connections: one for each account, whatever becomes of sessions",
    async (store) => {
      assert.deepEqual(await store.keepConnection(keptOf("k1")), []);
      assert.deepEqual(await store.findKept("k1"), keptOf("k1"));
      // The same account once more, and what is another one by person, provider, environment or account.
      const others = [
        keptOf("k2", { personId: "member-2" }),
        keptOf("k3", { provider: "archive" }),
        keptOf("k4", { environment: "sandbox" }),
        keptOf("k5", { account: "company-8", connectedAt: noon + 5 }),
      ];
      for (const each of others) assert.deepEqual(await store.keepConnection(each), []);
      assert.deepEqual(await store.keepConnection(keptOf("k6")), [keptOf("k1")]);
      assert.deepEqual([await store.findKept("k1"), await store.dropKept("k1")], [undefined, undefined]);
      const idsOf = async (query: Parameters<Store["findAllKept"]>[0]) =>
        (await store.findAllKept(query)).map(({ id }) => id);
      assert.deepEqual(await idsOf({ personId: "member-1", provider: "ledgerhouse" }), ["k5", "k6", "k4"]);
      assert.deepEqual(await idsOf({ provider: "ledgerhouse", environment: "sandbox" }), ["k4"]);
      assert.deepEqual(await idsOf({ account: "company-8" }), ["k5"]);
      assert.deepEqual((await idsOf({})).length, 5);
      await store.touchKept("k6", noon + 60);
      await store.touchKept("gone", noon + 60);
      assert.deepEqual(await store.findKept("k6"), keptOf("k6", { lastUsedAt: noon + 60 }));
      assert.equal(await store.findKept("gone"), undefined);
      assert.deepEqual(await store.dropKept("k6"), keptOf("k6", { lastUsedAt: noon + 60 }));
      assert.equal(await store.dropKept("k6"), undefined);
      // Its place is free again.
      assert.deepEqual(await store.keepConnection(keptOf("k7")), []);
    },
  ),

  clause(
    "writes a person's own connection by version and lease, and leaves whose it is alone",
    async (store) => {
      await store.keepConnection(keptOf("k1"));
      const taken = await store.takeLease("refresh/k1", "first", 60);
      const number = taken.kind === "held" ? 0 : taken.number;
      assert.notEqual(number, 0);
      const lease = { name: "refresh/k1", number };
      const next = keptOf("k1", { version: 2, scope: "books.read", renewedUnder: number });
      assert.equal(await store.replaceConnection(next, { ...lease, number: number + 1 }), false);
      await store.touchKept("k1", noon + 9);
      assert.equal(await store.replaceConnection(next, lease), true);
      assert.equal(await store.replaceConnection(next, lease), false);
      assert.deepEqual(await store.findKept("k1"), { ...next, lastUsedAt: noon + 9 });
      await store.dropKept("k1");
      assert.equal(await store.replaceConnection({ ...next, version: 3 }), false);
      assert.equal(await store.findKept("k1"), undefined);
    },
  ),

  clause(
    "gives one of those who connect one account at once the place, and nobody a second one",
    async (store) => {
      const ids = Array.from({ length: 8 }, (_, index) => `k${index}`);
      const gone = (await Promise.all(ids.map((id) => store.keepConnection(keptOf(id))))).flat();
      const left = await store.findAllKept({ personId: "member-1" });
      assert.equal(left.length, 1);
      assert.deepEqual([...gone, ...left].map(({ id }) => id).sort(), ids);
    },
  ),

  clause("removes a person with everything that is theirs", async (store) => {
    await enter(store, signIn("s1"));
    await enter(store, signIn("s2"));
    await enter(store, signIn("s3", { subject: "qs-10447" }));
    await store.keepConnection(keptOf("k1", { personId: "person-s1" }));
    await store.keepConnection(keptOf("k2"));
    const held = await store.removePerson("person-s1");
    assert.deepEqual(held.map(({ sessionId = "kept" }) => sessionId).sort(), ["kept", "s1", "s2"]);
    assert.equal(await store.findKept("k1"), undefined);
    assert.deepEqual(
      (await store.removePerson("member-1")).map(({ id }) => id),
      ["k2"],
    );
    assert.deepEqual(
      [await store.findSession("s1"), await store.findConnection("s2", "quayside")],
      [undefined, undefined],
    );
    assert.equal(await store.findIdentity(issuer, "qs-10231"), undefined);
    assert.deepEqual(await store.findSessions({ personId: "person-s1" }), []);
    assert.deepEqual(await store.removePerson("person-s1"), []);
    assert.notEqual(await store.findSession("s3"), undefined);
    // Whoever comes back is somebody new.
    assert.equal((await enter(store, signIn("s4"))).person.id, "person-s4");
  }),

  clause("sweeps what is over, and nothing else", async (store) => {
    await store.addAttempt(attempt, many);
    await store.addAttempt({ ...attempt, id: "attempt-2", expiresAt: noon + 700 }, many);
    await enter(store, signIn("s1"));
    await enter(store, signIn("s2", { at: noon + 10 }));
    const early = await store.sweep(noon + 650, many);
    assert.deepEqual(early, { count: 1, held: [] });
    assert.equal(await store.findAttempt("attempt-1"), undefined);
    assert.notEqual(await store.findAttempt("attempt-2"), undefined);
    // What is left of it says that there was one, for a day.
    const tombstone = tombstoneOf("attempt-1");
    const isMarked = [noon + 651, noon + 600 + 86_399, noon + 600 + 86_400].map((at) =>
      store.isMarked(tombstone, at),
    );
    assert.deepEqual(await Promise.all(isMarked), [true, true, false]);
    assert.ok(tombstone.length <= 40);
    const { count, held } = await store.sweep(noon + 3600, many);
    assert.equal(count, 2);
    assert.deepEqual(
      held.map(({ id }) => id),
      ["connection-s1-quayside"],
    );
    assert.equal(await store.findAttempt("attempt-2"), undefined);
    assert.equal(await store.findSession("s1"), undefined);
    assert.equal(await store.findConnection("s1", "quayside"), undefined);
    assert.notEqual(await store.findSession("s2"), undefined);
    assert.equal((await store.findSessions({})).length, 1);
  }),

  clause("sweeps so many at once, however much there is", async (store) => {
    for (const id of ["s1", "s2", "s3"]) await enter(store, signIn(id));
    const swept = [];
    for (let turn = 0; turn < 3; turn += 1) swept.push((await store.sweep(noon + 3600, 2)).count);
    assert.deepEqual(swept, [2, 1, 0]);
  }),

  clause("is closed more than once without harm, and is not to be used after it", async (store) => {
    await enter(store, signIn("s1"));
    await store.close();
    await store.close();
    const outcomes = await Promise.allSettled([
      store.findSession("s1"),
      store.useMark("mark", noon + 60, noon),
    ]);
    // What has nothing to close goes on.
    for (const outcome of outcomes)
      assert.ok(outcome.status === "fulfilled" || isProblem(outcome.reason, "store.unavailable"));
  }),

  clause("takes values as values, whatever is in them", async (store) => {
    const hostile = "'); DROP TABLE sessions; -- \ud83d\udea3 :*{}\" __proto__";
    await enter(store, signIn("s1", { subject: hostile, personId: "__proto__", name: `${hostile}\u0000` }));
    const found = await store.findSession("s1");
    assert.deepEqual([found?.person.id, found?.session.subject], ["__proto__", hostile]);
    assert.equal(await store.findConnection("s1", hostile), undefined);
    assert.equal((await store.findSessions({ subject: hostile })).length, 1);
  }),
];

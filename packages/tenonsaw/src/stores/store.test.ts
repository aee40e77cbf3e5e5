import { mkdtemp, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import Database from "libsql";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { noon, problemOf } from "../../../../tests/support/fake-world.js";
import type { AttemptRecord, SessionQuery, SignInRecords, Store } from "../session/index.js";
import { createMemoryStore } from "./memory.js";
import { openSqliteStore } from "./sqlite.js";
import { migrations } from "./sqlite-schema.js";

let folder: string;
beforeEach(async () => {
  folder = await mkdtemp(join(tmpdir(), "tenonsaw-store-"));
});
afterEach(() => rm(folder, { recursive: true }));

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

function signIn(
  session: string,
  changes: { subject?: string; newPersonId?: string; name?: string; at?: number } = {},
): SignInRecords {
  const { subject = "qs-10231", newPersonId = `person-${session}`, at = noon } = changes;
  return {
    newPersonId,
    profile: changes.name === undefined ? {} : { name: changes.name },
    identity: { issuer: "https://id.quayside.example", subject, provider: "quayside" },
    session: {
      id: session,
      provider: "quayside",
      issuer: "https://id.quayside.example",
      subject,
      providerSessionId: `sid-${session}`,
      createdAt: at,
      expiresAt: at + 3600,
    },
    connection: {
      id: `connection-${session}`,
      sessionId: session,
      provider: "quayside",
      subject,
      scope: "openid tides.read",
      status: "active",
      obtainedAt: at,
      expiresAt: at + 30,
      refreshCount: 0,
      sealedAccessToken: "at..sealed",
      sealedRefreshToken: "rt..sealed",
      version: 1,
    },
  };
}

const stores: Readonly<Record<string, () => Promise<Store>>> = {
  memory: async () => createMemoryStore(),
  SQLite: () => openSqliteStore(join(folder, "ferrywell.db")),
};

describe.each(Object.entries(stores))("the %s store", (_, openStore) => {
  let store: Store;
  beforeEach(async () => {
    store = await openStore();
  });
  afterEach(() => store.close());

  it("keeps an attempt and lets it be used once, however many try", async () => {
    expect(await store.findAttempt("attempt-1")).toBeUndefined();
    expect(await store.useAttempt("attempt-1", noon)).toBe(false);
    await store.addAttempt(attempt, 20);
    expect(await store.findAttempt("attempt-1")).toEqual(attempt);
    const uses = await Promise.all(
      Array.from({ length: 20 }, (__, index) => store.useAttempt("attempt-1", noon + index)),
    );
    expect(uses.filter(Boolean)).toHaveLength(1);
    expect(await store.findAttempt("attempt-1")).toHaveProperty("usedAt");
  });

  it("keeps so many open attempts of one browser, and lets the oldest go", async () => {
    const add = (id: string, changes: Partial<AttemptRecord> = {}) =>
      store.addAttempt({ ...attempt, id, ...changes }, 2);
    await add("other", { browserHash: "another browser" });
    await add("used");
    await store.useAttempt("used", noon);
    await add("first");
    await add("second", { beganAt: noon + 1 });
    await add("third", { beganAt: noon + 2, ending: "pop-up", linkSessionId: "s1" });
    const there = async (id: string) => (await store.findAttempt(id)) !== undefined;
    expect(await Promise.all(["other", "used", "first", "second", "third"].map(there))).toEqual([
      true,
      true,
      false,
      true,
      true,
    ]);
    expect(await store.findAttempt("third")).toMatchObject({ ending: "pop-up", linkSessionId: "s1" });
  });

  it("links a further identity to the person of a session, and never one that is somebody else's", async () => {
    const { id: maren } = await store.saveSignIn(signIn("s1"));
    await store.saveSignIn(signIn("s2", { subject: "qs-10447" }));
    const identity = { issuer: "https://harbour.example", subject: "hu-7", provider: "harbour" };
    const connection = { ...signIn("s1").connection!, id: "c-harbour", provider: "harbour", subject: "hu-7" };
    const link = { sessionId: "s1", identity, at: noon + 5, connection };
    expect(await store.linkIdentity({ ...link, sessionId: "nowhere" })).toBe("gone");
    expect(await store.linkIdentity(link)).toBe("linked");
    expect(await store.linkIdentity({ ...link, sessionId: "s2" })).toBe("taken");
    expect(await store.findIdentity("https://harbour.example", "hu-7")).toEqual({
      ...identity,
      personId: maren,
      createdAt: noon + 5,
      lastSignInAt: noon + 5,
    });
    expect((await store.findIdentities(maren)).map(({ provider }) => provider)).toEqual([
      "quayside",
      "harbour",
    ]);
    expect(await store.findConnection("s1", "harbour")).toMatchObject({ id: "c-harbour", personId: maren });
    // Once more: the newer connection of the same account stays; of another account it does not come in its place.
    const newer = { ...connection, id: "c-newer" };
    expect(await store.linkIdentity({ ...link, at: noon + 9, connection: newer })).toBe("linked");
    expect(await store.findConnection("s1", "harbour")).toMatchObject({ id: "c-newer" });
    const second = { ...identity, subject: "hu-8" };
    const foreign = { ...connection, id: "c-8", subject: "hu-8" };
    expect(await store.linkIdentity({ ...link, identity: second, connection: foreign })).toBe("linked");
    expect(await store.findConnection("s1", "harbour")).toMatchObject({ id: "c-newer" });
    // Whoever signs in with the linked identity is the same person.
    const again = { ...signIn("s3"), identity, session: { ...signIn("s3").session, provider: "harbour" } };
    expect(
      await store.saveSignIn({ ...again, connection: { ...connection, id: "c3", sessionId: "s3" } }),
    ).toHaveProperty("id", maren);
  });

  it("unlinks an identity with all that hangs on it, and never the last one at a provider that is there", async () => {
    const { id: personId } = await store.saveSignIn(signIn("s1"));
    const harbour = { issuer: "https://harbour.example", subject: "hu-7", provider: "harbour" };
    const quayside = { issuer: "https://id.quayside.example", subject: "qs-10231" };
    const connection = { ...signIn("s1").connection!, id: "c-harbour", provider: "harbour", subject: "hu-7" };
    await store.linkIdentity({ sessionId: "s1", identity: harbour, at: noon, connection });
    await store.saveSignIn(signIn("s4", { at: noon + 1 }));
    const both = ["quayside", "harbour"];
    expect(await store.unlinkIdentity({ personId, ...quayside }, ["quayside"])).toBeUndefined();
    expect(await store.unlinkIdentity({ personId: "somebody", ...quayside }, both)).toBeUndefined();
    expect(await store.unlinkIdentity({ personId, ...quayside, subject: "hu-7" }, both)).toBeUndefined();
    const held = await store.unlinkIdentity({ personId, ...harbour }, both);
    expect(held?.map(({ id }) => id)).toEqual(["c-harbour"]);
    expect(await store.findConnection("s1", "harbour")).toBeUndefined();
    expect(await store.findSession("s1")).toBeDefined();
    expect(await store.unlinkIdentity({ personId, ...quayside }, both)).toBeUndefined();
    // Linked once more, the first one can go: its sessions go with it.
    await store.linkIdentity({ sessionId: "s1", identity: harbour, at: noon });
    const gone = await store.unlinkIdentity({ personId, ...quayside }, both);
    expect(gone?.map(({ id }) => id).sort()).toEqual(["connection-s1", "connection-s4"]);
    expect([await store.findSession("s1"), await store.findSession("s4")]).toEqual([undefined, undefined]);
    expect(await store.findIdentities(personId)).toHaveLength(1);
  });

  it("finds the sessions of a person, of a provider, or all, the newest first", async () => {
    const { id } = await store.saveSignIn(signIn("s1"));
    await store.saveSignIn(signIn("s2", { subject: "qs-10447", at: noon + 5 }));
    await store.saveSignIn(signIn("s3", { at: noon + 10 }));
    const ids = async (query: SessionQuery) =>
      (await store.findSessions(query)).map(({ session }) => session.id);
    expect(await ids({})).toEqual(["s3", "s2", "s1"]);
    expect(await ids({ personId: id })).toEqual(["s3", "s1"]);
    expect(await ids({ personId: id, provider: "quayside" })).toEqual(["s3", "s1"]);
    expect(await ids({ provider: "harbour" })).toEqual([]);
    const issuer = "https://id.quayside.example";
    expect(await ids({ issuer, subject: "qs-10447" })).toEqual(["s2"]);
    expect(await ids({ issuer, providerSessionId: "sid-s3" })).toEqual(["s3"]);
    expect(await ids({ issuer: "https://evil.example", subject: "qs-10447" })).toEqual([]);
    expect((await store.findSessions({}))[2]?.person.id).toBe(id);
  });

  it("keeps a session without a connection, where there was no access token", async () => {
    const { connection: _none, ...records } = signIn("s1");
    await store.saveSignIn(records);
    expect(await store.findSession("s1")).toBeDefined();
    expect(await store.findConnection("s1", "quayside")).toBeUndefined();
    expect(await store.endSession("s1")).toEqual([]);
  });

  it("notes a mark once until it expires, however many try", async () => {
    const use = () => store.useMark("logout/x", noon + 60, noon);
    expect((await Promise.all(Array.from({ length: 20 }, use))).filter(Boolean)).toHaveLength(1);
    expect(await store.useMark("logout/x", noon + 120, noon + 60)).toBe(true);
    await store.sweep(noon + 120, 0);
    expect(await use()).toBe(true);
  });

  it("makes a person at the first visit and finds them by issuer and subject after that", async () => {
    const first = await store.saveSignIn(signIn("s1", { name: "Maren" }));
    expect(first).toEqual({ id: "person-s1", name: "Maren", createdAt: noon });
    const again = await store.saveSignIn(signIn("s2", { name: "Maren Holt", at: noon + 99 }));
    expect(again).toEqual({ id: "person-s1", name: "Maren Holt", createdAt: noon });
    expect(await store.saveSignIn(signIn("s3", { subject: "qs-10447", name: "Maren" }))).toMatchObject({
      id: "person-s3",
    });
  });

  it("forgets a name that the provider does not tell any more", async () => {
    await store.saveSignIn(signIn("s1", { name: "Maren" }));
    expect(await store.saveSignIn(signIn("s2"))).toEqual({ id: "person-s1", createdAt: noon });
  });

  it("finds a session with its person, and ends it with all it holds", async () => {
    await store.saveSignIn(signIn("s1", { name: "Zoë 🚣" }));
    await store.saveSignIn(signIn("s2"));
    expect(await store.findSession("s1")).toMatchObject({
      session: {
        id: "s1",
        personId: "person-s1",
        provider: "quayside",
        createdAt: noon,
        expiresAt: noon + 3600,
      },
      person: { id: "person-s1" },
    });
    expect(await store.endSession("s1")).toMatchObject([{ id: "connection-s1", personId: "person-s1" }]);
    expect(await store.findSession("s1")).toBeUndefined();
    expect(await store.findConnection("s1", "quayside")).toBeUndefined();
    expect(await store.endSession("s1")).toEqual([]);
    expect(await store.findSession("s2")).toBeDefined();
  });

  it("replaces a connection once per version, however many try", async () => {
    await store.saveSignIn(signIn("s1"));
    const {
      sealedRefreshToken: _gone,
      expiresAt: _open,
      ...bare
    } = (await store.findConnection("s1", "quayside"))!;
    const writes = await Promise.all(
      Array.from({ length: 20 }, (__, index) =>
        store.replaceConnection({ ...bare, version: 2, refreshCount: index }),
      ),
    );
    expect(writes.filter(Boolean)).toHaveLength(1);
    const written = await store.findConnection("s1", "quayside");
    expect(written).toEqual({ ...bare, version: 2, refreshCount: writes.indexOf(true) });
    expect(await store.replaceConnection({ ...bare, version: 2 })).toBe(false);
    expect(await store.replaceConnection({ ...bare, id: "other", sessionId: "s9", version: 1 })).toBe(false);
    expect(await store.findConnection("s1", "harbour")).toBeUndefined();
  });

  it("sweeps what is over, and nothing else", async () => {
    await store.addAttempt(attempt, 20);
    await store.addAttempt({ ...attempt, id: "attempt-2", expiresAt: noon + 700 }, 20);
    await store.saveSignIn(signIn("s1"));
    await store.saveSignIn(signIn("s2", { at: noon + 10 }));
    expect(await store.sweep(noon + 3600, noon + 650)).toBe(2);
    expect(await store.findAttempt("attempt-1")).toBeUndefined();
    expect(await store.findAttempt("attempt-2")).toBeDefined();
    expect(await store.findSession("s1")).toBeUndefined();
    expect(await store.findConnection("s1", "quayside")).toBeUndefined();
    expect(await store.findSession("s2")).toBeDefined();
  });

  it("takes values as values, whatever is in them", async () => {
    const hostile = "'); DROP TABLE sessions; -- \u0000 \ud83d\udea3 __proto__";
    await store.saveSignIn(signIn("s1", { subject: hostile, newPersonId: "__proto__", name: hostile }));
    expect(await store.findSession("s1")).toMatchObject({ person: { id: "__proto__" } });
    expect(await store.findConnection("s1", hostile)).toBeUndefined();
  });
});

describe("the SQLite store", () => {
  const file = () => join(folder, "ferrywell.db");

  it("keeps its records over a restart, in tables that a person can read", async () => {
    const store = await openSqliteStore(file());
    await store.saveSignIn(signIn("s1", { name: "Maren Holt" }));
    await store.close();
    const reopened = await openSqliteStore(file());
    expect(await reopened.findSession("s1")).toMatchObject({ person: { name: "Maren Holt" } });
    await reopened.close();
    const database = new Database(file());
    const people = database.prepare("SELECT name, created_at FROM people").raw().all();
    const sessions = database.prepare("SELECT person_id, provider, expires_at FROM sessions").raw().all();
    database.close();
    expect(people).toEqual([["Maren Holt", "2026-09-21T14:13:20Z"]]);
    expect(sessions).toEqual([["person-s1", "quayside", "2026-09-21T15:13:20Z"]]);
  });

  it("is shared by two processes' worth of connections: one attempt, one use", async () => {
    const [one, two] = [await openSqliteStore(file()), await openSqliteStore(file())];
    await one.addAttempt(attempt, 20);
    const uses = await Promise.all([one.useAttempt("attempt-1", noon), two.useAttempt("attempt-1", noon)]);
    expect(uses.filter(Boolean)).toHaveLength(1);
    await Promise.all([one.close(), two.close()]);
  });

  it("leaves nothing of a sign-in that could not be written whole", async () => {
    const store = await openSqliteStore(file());
    await store.saveSignIn(signIn("s1"));
    const half = signIn("s2", { subject: "qs-10447" });
    const clash = { ...half, connection: { ...half.connection!, id: "connection-s1" } };
    expect((await problemOf(() => store.saveSignIn(clash))).code).toBe("store.unavailable");
    expect(await store.findSession("s2")).toBeUndefined();
    await store.close();
  });

  it("brings a file of an earlier version up to date, and keeps everybody signed in", async () => {
    const old = new Database(file());
    for (const migration of migrations.slice(0, 2)) old.exec(migration);
    old.exec(`
      PRAGMA user_version = 2;
      INSERT INTO people (id, name, created_at) VALUES ('p1', 'Maren', '2026-09-21T12:00:00Z');
      INSERT INTO identities VALUES ('https://id.quayside.example', 'qs-10231', 'quayside', 'p1', '2026-09-21T12:00:00Z', '2026-09-21T12:00:00Z');
      INSERT INTO sessions VALUES ('s1', 'p1', 'quayside', '2026-09-21T12:00:00Z', '2036-09-21T12:00:00Z');
    `);
    old.close();
    const store = await openSqliteStore(file());
    expect(await store.findSession("s1")).toMatchObject({
      session: { issuer: "https://id.quayside.example", subject: "qs-10231" },
      person: { name: "Maren" },
    });
    expect(await store.findSessions({ subject: "qs-10231" })).toHaveLength(1);
    await store.close();
  });

  it("says which file it cannot open, and refuses one of a newer version", async () => {
    const { code, received } = await problemOf(() => openSqliteStore("/nowhere/at/all.db"));
    expect([code, received]).toEqual([
      "store.unavailable",
      expect.stringContaining("/nowhere/at/all.db") as string,
    ]);
    const database = new Database(file());
    database.exec("PRAGMA user_version = 99");
    database.close();
    expect((await problemOf(() => openSqliteStore(file()))).code).toBe("store.newer-schema");
  });
});

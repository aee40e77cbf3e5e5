import { execFile, spawn } from "node:child_process";
import { once } from "node:events";
import { mkdtemp, rm, stat } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { monitorEventLoopDelay } from "node:perf_hooks";
import { setTimeout as wait } from "node:timers/promises";
import pg from "pg";
import { createClient } from "redis";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it, vi } from "vitest";
import { isProblem } from "tenonsaw";
import type { Store } from "tenonsaw/server";
import { openPostgresStore } from "tenonsaw/stores/postgres";
import { openRedisStore } from "tenonsaw/stores/redis";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { startPostgres, startRedis, type Server } from "../scripts/servers.mjs";

const now = Math.floor(Date.now() / 1000);
const issuer = "https://id.quayside.example";

function signIn(session: string, subject = "qs-10231") {
  const identity = { issuer, subject, provider: "quayside" };
  return {
    personId: `person-${subject}`,
    profile: { name: "Maren Holt" },
    identity,
    session: {
      id: session,
      ...identity,
      providerSessionId: `sid-${session}`,
      createdAt: now,
      expiresAt: now + 3600,
    },
    connection: {
      id: `connection-${session}`,
      sessionId: session,
      provider: "quayside",
      subject,
      scope: "openid",
      status: "active" as const,
      obtainedAt: now,
      refreshCount: 0,
      sealedAccessToken: "at..sealed",
      sealedRefreshToken: "rt..sealed",
      version: 1,
    },
  };
}

/** What a call ended in, and after how many seconds. */
async function outcomeOf(work: () => Promise<unknown>): Promise<{ code: string; seconds: number }> {
  const startedAt = performance.now();
  const code = await work().then(
    () => "done",
    (error: unknown) => (isProblem(error) ? error.problem.code : String(error)),
  );
  return { code, seconds: (performance.now() - startedAt) / 1000 };
}

/** A server that stands still: nobody waits for long, soon nobody waits at all, and afterwards all is as before. */
async function standsStill(server: Server, store: Store): Promise<void> {
  await store.saveSignIn(signIn("still"));
  server.pause();
  const first = await Promise.all(
    Array.from({ length: 5 }, () => outcomeOf(() => store.findSession("still"))),
  );
  for (const { code } of first) expect(code).toBe("store.unavailable");
  const { code, seconds } = await outcomeOf(() => store.findSession("still"));
  // Less than any call may take: nobody waited for an answer.
  expect([code, seconds < 4]).toEqual(["store.unavailable", true]);
  server.resume();
  await expect.poll(() => store.findSession("still").catch(() => undefined)).toBeDefined();
  expect((await outcomeOf(() => store.changeSession("still", { lastSeenAt: now + 1 }))).code).toBe("done");
}

describe.skipIf(process.env["POSTGRES_PROGRAMS"] === undefined)("PostgreSQL, when it fails", () => {
  let server: Server;
  let store: Store;
  const query = async (sql: string) => {
    const client = new pg.Client(server.url);
    await client.connect();
    const { rows } = await client.query<Record<string, unknown>>(sql);
    await client.end();
    return rows;
  };
  beforeAll(async () => {
    server = await startPostgres(process.env["POSTGRES_PROGRAMS"] ?? "");
  });
  afterAll(() => server.stop());
  beforeEach(async () => {
    await query("DROP SCHEMA IF EXISTS tenonsaw CASCADE");
    store = await openPostgresStore(server.url);
  });
  afterEach(() => store.close());

  it("ends what a broken connection was in the middle of, and nothing else", async () => {
    await store.saveSignIn(signIn("s1"));
    const blocking = new pg.Client(server.url);
    await blocking.connect();
    await blocking.query("BEGIN; SELECT * FROM tenonsaw.people FOR UPDATE");
    // In a transaction, waiting for a lock: just then its connection is ended by the server.
    const waiting = outcomeOf(() => store.saveSignIn(signIn("s2")));
    await expect
      .poll(
        async () =>
          (
            await query(
              "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE wait_event_type = 'Lock'",
            )
          ).length,
      )
      .toBe(1);
    expect((await waiting).code).toBe("store.unavailable");
    await blocking.query("ROLLBACK");
    await blocking.end();
    expect((await outcomeOf(() => store.saveSignIn(signIn("s3")))).code).toBe("done");
    expect(await store.findSession("s2")).toBeUndefined();
  });

  it("goes on after a restart in the middle of everything", async () => {
    await store.saveSignIn(signIn("s1"));
    let isOver = false;
    const codes = new Set<string>();
    let written = 0;
    const load = Array.from({ length: 8 }, async (_, index) => {
      for (let count = 0; !isOver; count += 1) {
        const { code } = await outcomeOf(() => store.saveSignIn(signIn(`s-${index}-${count}`)));
        codes.add(code);
        if (code === "done") written += 1;
      }
    });
    for (let turn = 0; turn < 3; turn += 1) {
      const before = written;
      await expect.poll(() => written).toBeGreaterThan(before);
      await server.kill();
      await server.restart();
    }
    isOver = true;
    await Promise.all(load);
    expect([...codes].sort()).toEqual(["done", "store.unavailable"]);
    await expect.poll(() => store.findSession("s1").catch(() => undefined)).toBeDefined();
  });

  it("is waited for a few seconds when it stands still, and then not at all", async () => {
    await standsStill(server, store);
  });

  it("has one order of locks: nothing of one person's blocks anything else of theirs", async () => {
    await store.saveSignIn(signIn("s0"));
    const link = { issuer: "https://harbour.example", subject: "hu-7", provider: "harbour" };
    const both = ["quayside", "harbour"];
    const work = async (index: number) => {
      const session = `s-${index}`;
      await store.saveSignIn({ ...signIn(session), previousSessionId: `s-${index - 3}` });
      await Promise.all([
        store.linkIdentity({
          sessionId: session,
          identity: link,
          at: now,
          connection: {
            ...signIn(session).connection,
            id: `link-${index}`,
            provider: "harbour",
            subject: "hu-7",
          },
        }),
        store.unlinkIdentity({ personId: "person-qs-10231", issuer: link.issuer, subject: "hu-7" }, both),
        store.replaceConnection({ ...signIn(session).connection, personId: "person-qs-10231", version: 2 }),
        store.endSession(`s-${index - 1}`),
        store.sweep(now, 10),
      ]);
    };
    // Ten at a time: who waits for a lock in a longer line than that may be given up.
    for (let from = 0; from < 40; from += 10) {
      const ends = await Promise.all(
        Array.from({ length: 10 }, (_, index) => outcomeOf(() => work(from + index))),
      );
      expect(new Set(ends.map(({ code }) => code))).toEqual(new Set(["done"]));
    }
    const [row] = await query("SELECT deadlocks FROM pg_stat_database WHERE datname = current_database()");
    expect(Number(row?.["deadlocks"])).toBe(0);
  });
});

describe.skipIf(process.env["REDIS_SERVER"] === undefined)("Redis, when it fails", () => {
  let server: Server;
  beforeAll(async () => {
    server = await startRedis(process.env["REDIS_SERVER"] ?? "");
  });
  afterAll(() => server.stop());

  it("is waited for a few seconds when it stands still, and then not at all", async () => {
    const store = await openRedisStore(server.url);
    await standsStill(server, store);
    await store.close();
  });

  it("keeps nothing for ever but people, their identities and three counters", async () => {
    const store = await openRedisStore(server.url);
    await store.saveSignIn(signIn("s1"));
    await store.saveSignIn({ ...signIn("s2"), previousSessionId: "s1" });
    const attempt = { id: "a".repeat(43), browserHash: "b", provider: "quayside", host: "h", returnTo: "/" };
    await store.addAttempt({ ...attempt, sealedAttempt: "x", beganAt: now, expiresAt: now + 600 }, 20);
    await store.useAttempt(attempt.id, now);
    await store.useMark("logout/x", now + 60, now);
    await store.takeLease("refresh/c1", "somebody", 60, 100);
    const client = createClient({ url: server.url });
    await client.connect();
    const keys = (await client.keys("*")).sort();
    const immortal = [];
    for (const key of keys) if ((await client.ttl(key)) < 0) immortal.push(key.replace("{tenonsaw}:", ""));
    expect(immortal).toEqual([
      "identities:person-qs-10231",
      `identity:${issuer} qs-10231`,
      "lease-number",
      "person:person-qs-10231",
      "serial",
    ]);
    await client.close();
    await store.close();
  });
});

describe("SQLite, when another process has it", () => {
  let folder: string;
  let file: string;
  beforeEach(async () => {
    folder = await mkdtemp(join(tmpdir(), "tenonsaw-faults-"));
    file = join(folder, "ferrywell.db");
  });
  afterEach(() => rm(folder, { recursive: true }));

  /** Another process that is writing for so many milliseconds. */
  async function lock(milliseconds: number): Promise<{ readonly released: Promise<unknown> }> {
    const script = `const d = new (require("libsql"))(process.argv[1]);
      d.exec("BEGIN IMMEDIATE"); console.log("locked");
      setTimeout(() => { d.exec("ROLLBACK"); d.close(); }, Number(process.argv[2]));`;
    const child = spawn(process.execPath, ["-e", script, file, String(milliseconds)], {
      cwd: new URL("..", import.meta.url),
      stdio: ["ignore", "pipe", "inherit"],
    });
    const released = once(child, "exit");
    await once(child.stdout, "data");
    return { released };
  }

  it("waits for its turn while everything else in this process goes on", async () => {
    const store = await openSqliteStore(file);
    const { released } = await lock(2000);
    let isHeld = true;
    void released.then(() => (isHeld = false));
    const delay = monitorEventLoopDelay({ resolution: 5 });
    delay.enable();
    const writes = Promise.all(
      Array.from({ length: 20 }, (_, index) => outcomeOf(() => store.saveSignIn(signIn(`s${index}`)))),
    );
    // Reading waits for nobody.
    await store.findSession("s0");
    expect(isHeld).toBe(true);
    const written = await writes;
    delay.disable();
    expect(new Set(written.map(({ code }) => code))).toEqual(new Set(["done"]));
    expect(Math.min(...written.map(({ seconds }) => seconds))).toBeGreaterThan(0.5);
    expect(delay.max / 1e6).toBeLessThan(1500);
    await released;
    await store.close();
  });

  it("gives up after some seconds, refuses at once after that, and goes on when it can", async () => {
    const store = await openSqliteStore(file);
    const { released } = await lock(8000);
    const writes = Array.from({ length: 4 }, (_, index) =>
      outcomeOf(() => store.saveSignIn(signIn(`s${index}`))),
    );
    for (const { code } of await Promise.all(writes)) expect(code).toBe("store.unavailable");
    const { code, seconds } = await outcomeOf(() => store.saveSignIn(signIn("s5")));
    // Less than any call may take: nobody waited for an answer.
    expect([code, seconds < 4]).toEqual(["store.unavailable", true]);
    await released;
    expect((await outcomeOf(() => store.saveSignIn(signIn("s6")))).code).toBe("done");
    await store.close();
  });

  it("is readable by its owner only", async () => {
    const store = await openSqliteStore(file);
    await store.saveSignIn(signIn("s1"));
    for (const each of [file, `${file}-wal`, `${file}-shm`])
      expect((await stat(each)).mode & 0o777).toBe(0o600);
    await store.close();
  });

  it("lets leases end by a clock that nobody sets", async () => {
    const store = await openSqliteStore(file);
    const at = Date.now();
    const clock = vi.spyOn(Date, "now");
    try {
      expect((await store.takeLease("refresh/c1", "first", 60)).kind).toBe("taken");
      for (const step of [300_000, -300_000, 86_400_000]) {
        clock.mockReturnValue(at + step);
        expect((await store.takeLease("refresh/c1", "second", 60)).kind).toBe("held");
      }
      expect((await store.takeLease("refresh/c2", "first", 0.05)).kind).toBe("taken");
      clock.mockReturnValue(at - 300_000);
      await wait(100);
      expect((await store.takeLease("refresh/c2", "second", 60)).kind).toBe("taken over");
    } finally {
      clock.mockRestore();
    }
    await store.close();
  });

  it("refuses before anything is spent where there is no room, and goes on when there is", async () => {
    const store = await openSqliteStore(file);
    await store.saveSignIn(signIn("s1"));
    await store.close();
    // A limit for files of this size stands in for a disk that is full.
    const sizes = [file, `${file}-wal`].map((each) =>
      stat(each).then(
        ({ size }) => size,
        () => 0,
      ),
    );
    const size = Math.max(...(await Promise.all(sizes)));
    const script = `import { openSqliteStore } from "tenonsaw/stores/sqlite";
      process.on("SIGXFSZ", () => {});
      const store = await openSqliteStore(process.argv[1]);
      const codeOf = (work) => work.then(({ kind }) => kind, (error) => error.problem?.code ?? String(error));
      const room = Number(process.argv[2]);
      console.log(await codeOf(store.takeLease("refresh/c1", "first", 60, room)), await codeOf(store.takeLease("refresh/c1", "first", 60, 10)));
      console.log((await store.findSession("s1"))?.person.name);`;
    const limited = `ulimit -f ${Math.ceil((size + 64 * 1024) / 1024)}; exec "$0" --input-type=module -e "$1" "$2" "$3"`;
    const output = await new Promise<string>((resolve, reject) => {
      execFile(
        "bash",
        ["-c", limited, process.execPath, script, file, String(size + 256 * 1024)],
        { cwd: new URL("..", import.meta.url) },
        (error, stdout, stderr) => (error ? reject(new RangeError(stderr)) : resolve(stdout)),
      );
    });
    expect(output.trim().split("\n")).toEqual(["store.unavailable taken", "Maren Holt"]);
  });
});

// The stores, each against its own driver: reading a session, reading one among a million, and what one takes up. Real
// servers are started on free ports of this machine, and ended.
import { mkdtempSync, rmSync, statSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import Database from "libsql";
import pg from "pg";
import { createClient } from "redis";
import { openPostgresStore } from "tenonsaw/stores/postgres";
import { openRedisStore } from "tenonsaw/stores/redis";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { startPostgres, startRedis } from "../scripts/servers.mjs";
import { ready } from "../scripts/ready.mjs";
import { median, medianRatio, rounded, timeInTurn } from "./machine.mjs";

const noon = Math.floor(Date.now() / 1000);
const [few, million, signIns] = [1000, 1_000_000, 1000];
const idOf = (number) => String(number).padStart(43, "0");
const columns = `s.*, p.name AS person_name, p.email AS person_email, p.created_at AS person_created_at`;
const day = "2036-09-21T12:00:00Z";

/**
 * For each store that is there: the driver's read of a session with its person over ours, and the leanest read it has; p99 among a million over p99 among a thousand, which are held side by
 * side and read in turn; bytes a sign-in.
 */
export async function measureStores() {
  const { REDIS_SERVER, POSTGRES_PROGRAMS } = ready();
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-bench-"));
  const results = { sqlite: await measure((name) => openSqlite(join(folder, `${name}.db`))) };
  rmSync(folder, { recursive: true });
  if (REDIS_SERVER) results.redis = await withServer(startRedis(REDIS_SERVER), openRedis);
  if (POSTGRES_PROGRAMS) results.postgres = await withServer(startPostgres(POSTGRES_PROGRAMS), openPostgres);
  return results;
}

async function withServer(starting, open) {
  const server = await starting;
  try {
    return await measure((name) => open(server.url, name));
  } finally {
    await server.stop();
  }
}

async function openSqlite(file) {
  const store = await openSqliteStore(file);
  const database = new Database(file);
  database.pragma("synchronous = OFF");
  const sql = `SELECT ${columns} FROM sessions s JOIN people p ON p.id = s.person_id WHERE s.id = ?`;
  const [statement, lean] = [database.prepare(sql), database.prepare(sql).raw()];
  return {
    store,
    raw: (id) => statement.get(id),
    lean: (id) => lean.get(id),
    size() {
      database.pragma("wal_checkpoint(TRUNCATE)");
      return statSync(file).size;
    },
    fill(count) {
      const numbers = `WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < ${count - 1})`;
      database.exec(`
        INSERT INTO people (id, name, email, created_at)
          ${numbers} SELECT 'person-' || i, 'Maren Holt', 'maren.holt@ferrywell.example', '${day}' FROM n;
        INSERT INTO sessions (id, person_id, provider, issuer, subject, created_at, expires_at)
          ${numbers} SELECT printf('%043d', i), 'person-' || i, 'quayside', 'https://id.quayside.example', 'qs-' || i,
            '${day}', '${day}' FROM n;`);
    },
    async close() {
      database.close();
      await store.close();
    },
  };
}

/** One database of the server for the thousand, another for the million. */
async function openRedis(server, name) {
  const url = new URL(name === "few" ? "/0" : "/1", server).href;
  const store = await openRedisStore(url);
  const client = await createClient({ url }).connect();
  await client.configSet("appendonly", "no");
  const session = { provider: "quayside", issuer: "https://id.quayside.example", subject: "qs-10231" };
  const instants = { createdAt: noon, expiresAt: noon + 1e8 };
  const person = { name: "Maren Holt", email: "maren.holt@ferrywell.example", createdAt: noon };
  const script = `
    for i = tonumber(ARGV[1]), tonumber(ARGV[2]) - 1 do
      local id, person = string.format('%043d', i), 'person-' .. i
      redis.call('SET', '{tenonsaw}:session:' .. id, (string.gsub(ARGV[3], 'ID', id)):gsub('PERSON', person) .. '')
      redis.call('SET', '{tenonsaw}:person:' .. person, (string.gsub(ARGV[4], 'PERSON', person)) .. '')
    end`;
  const texts = [
    JSON.stringify({ id: "ID", personId: "PERSON", ...session, ...instants }),
    JSON.stringify({ id: "PERSON", ...person }),
  ];
  return {
    store,
    raw: (id) => client.mGet([`{tenonsaw}:session:${id}`, `{tenonsaw}:person:person-${Number(id)}`]),
    lean: (id) => client.get(`{tenonsaw}:session:${id}`),
    size: async () => Number(/used_memory:(\d+)/.exec(await client.info("memory"))[1]),
    async fill(count) {
      for (let at = 0; at < count; at += 20_000)
        await client.eval(script, {
          arguments: [String(at), String(Math.min(at + 20_000, count)), ...texts],
        });
    },
    async close() {
      await client.close();
      await store.close();
    },
  };
}

async function openPostgres(server, name) {
  const admin = new pg.Client(server);
  await admin.connect();
  await admin.query(`CREATE DATABASE ${name}`);
  await admin.end();
  const url = new URL(name, server).href;
  const store = await openPostgresStore(url);
  const pool = new pg.Pool({ connectionString: url, max: 10 });
  const text = `SELECT ${columns} FROM tenonsaw.sessions s JOIN tenonsaw.people p ON p.id = s.person_id WHERE s.id = $1`;
  return {
    store,
    raw: (id) => pool.query({ name: "raw", text, values: [id] }),
    lean: (id) => pool.query({ name: "lean", text, values: [id], rowMode: "array" }),
    size: async () =>
      Number((await pool.query("SELECT pg_database_size(current_database()) AS size")).rows[0].size),
    async fill(count) {
      const numbers = `generate_series(0, ${count - 1}) AS i`;
      await pool.query(`INSERT INTO tenonsaw.people (id, name, email, created_at)
        SELECT 'person-' || i, 'Maren Holt', 'maren.holt@ferrywell.example', '${day}' FROM ${numbers}`);
      await pool.query(`INSERT INTO tenonsaw.sessions (id, person_id, provider, issuer, subject, created_at, expires_at)
        SELECT lpad(i::text, 43, '0'), 'person-' || i, 'quayside', 'https://id.quayside.example', 'qs-' || i,
          '${day}', '${day}' FROM ${numbers}`);
      await pool.query("ANALYZE");
    },
    async close() {
      await pool.end();
      await store.close();
    },
  };
}

async function measure(open) {
  const [small, large] = [await open("few"), await open("million")];
  try {
    const before = await small.size();
    for (let number = 0; number < signIns; number += 1) await small.store.saveSignIn(signIn(number));
    const bytesEach = Math.round(((await small.size()) - before) / signIns);
    await small.fill(few);
    const { store, raw, lean } = small;
    const id = idOf(7);
    const times = await timeInTurn(
      { raw: async () => raw(id), lean: async () => lean(id), ours: () => store.findSession(id) },
      { rounds: 200, batch: 20 },
    );
    await large.fill(million);
    return {
      read: medianRatio(times.raw, times.ours),
      leanRead: medianRatio(times.lean, times.ours),
      readMicroseconds: rounded(median(times.ours)),
      amongMillion: await compareP99(large.store, small.store),
      bytesEach,
    };
  } finally {
    await small.close();
    await large.close();
  }
}

/** The 99th percentile among a million over that among a thousand: the median of slices that take turns. */
async function compareP99(large, small) {
  const slices = { large: [], small: [] };
  for (let slice = 0; slice < 16; slice += 1) {
    slices.large.push(await p99(large, slice, million));
    slices.small.push(await p99(small, slice, few));
  }
  // The first two warm up what is to be warm in either case.
  return medianRatio(slices.large.slice(2), slices.small.slice(2));
}

/** Milliseconds that 99 of a hundred reads stay below, of sessions all over. */
async function p99(store, slice, count) {
  const times = [];
  for (let turn = 0; turn < 2000; turn += 1) {
    const id = idOf(((slice * 2000 + turn) * 7919) % count);
    const startedAt = performance.now();
    if (!(await store.findSession(id))) throw new Error(`there is no session ${id}`);
    times.push(performance.now() - startedAt);
  }
  times.sort((left, right) => left - right);
  return times[1980];
}

/** A whole sign-in, its three tokens as long as they usually are when they are sealed. */
function signIn(number) {
  const identity = {
    issuer: "https://id.quayside.example",
    subject: `qs-own-${number}`,
    provider: "quayside",
  };
  const { issuer, subject, provider } = identity;
  const sessionId = `own-${number}`.padEnd(43, "x");
  return {
    personId: `own-person-${number}`,
    profile: { name: "Maren Holt", email: "maren.holt@ferrywell.example" },
    identity,
    session: { id: sessionId, provider, issuer, subject, createdAt: noon, expiresAt: noon + 604_800 },
    connection: {
      id: `own-connection-${number}`,
      sessionId,
      provider,
      subject,
      scope: "openid profile email offline_access tides.read",
      status: "active",
      obtainedAt: noon,
      expiresAt: noon + 3600,
      refreshCount: 0,
      version: 1,
      sealedAccessToken: "a".repeat(1200),
      sealedRefreshToken: "r".repeat(250),
      sealedIdToken: "i".repeat(1100),
    },
  };
}

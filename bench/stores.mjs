// The stores, each against its own driver: reading a session, reading one among a million, and what one takes up. Real
// servers are started on free ports of this machine, and ended.
import { mkdtempSync, rmSync, statSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import Database from "libsql";
import pg from "pg";
import { createClient } from "redis";
import { runnerImport } from "vite";
import { openPostgresStore } from "tenonsaw/stores/postgres";
import { openRedisStore } from "tenonsaw/stores/redis";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { ready } from "../scripts/ready.mjs";
import { median, rounded, timeInTurn } from "./machine.mjs";

const noon = Math.floor(Date.now() / 1000);
const [few, million, signIns] = [1000, 1_000_000, 1000];
const idOf = (number) => String(number).padStart(43, "0");
const columns = `s.*, p.name AS person_name, p.email AS person_email, p.created_at AS person_created_at`;
const day = "2036-09-21T12:00:00Z";

/** For each store that is there: raw read over ours; p99 among a million over p99 among a thousand; bytes a session. */
export async function measureStores() {
  const { startPostgres, startRedis } = (await runnerImport("./tests/support/servers.ts")).module;
  const { REDIS_SERVER, POSTGRES_PROGRAMS } = ready();
  const results = { sqlite: await measureSqlite() };
  if (REDIS_SERVER) results.redis = await withServer(await startRedis(REDIS_SERVER), measureRedis);
  if (POSTGRES_PROGRAMS)
    results.postgres = await withServer(await startPostgres(POSTGRES_PROGRAMS), measurePostgres);
  return results;
}

async function withServer(server, measure) {
  try {
    return await measure(server.url);
  } finally {
    await server.stop();
  }
}

async function measureSqlite() {
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-bench-"));
  const file = join(folder, "sessions.db");
  const store = await openSqliteStore(file);
  const database = new Database(file);
  database.pragma("synchronous = OFF");
  const size = () => {
    database.pragma("wal_checkpoint(TRUNCATE)");
    return statSync(file).size;
  };
  const sql = `SELECT ${columns} FROM sessions s JOIN people p ON p.id = s.person_id WHERE s.id = ?`;
  const [statement, lean] = [database.prepare(sql), database.prepare(sql).raw()];
  const fill = (from, to) =>
    database.exec(`
      INSERT INTO people (id, name, email, created_at)
        WITH RECURSIVE n(i) AS (SELECT ${from} UNION ALL SELECT i + 1 FROM n WHERE i < ${to - 1})
        SELECT 'person-' || i, 'Maren Holt', 'maren.holt@ferrywell.example', '${day}' FROM n;
      INSERT INTO sessions (id, person_id, provider, issuer, subject, created_at, expires_at)
        WITH RECURSIVE n(i) AS (SELECT ${from} UNION ALL SELECT i + 1 FROM n WHERE i < ${to - 1})
        SELECT printf('%043d', i), 'person-' || i, 'quayside', 'https://id.quayside.example', 'qs-' || i,
          '${day}', '${day}' FROM n;`);
  try {
    return await measure({ store, size, raw: (id) => statement.get(id), lean: (id) => lean.get(id), fill });
  } finally {
    database.close();
    await store.close();
    rmSync(folder, { recursive: true });
  }
}

async function measureRedis(url) {
  const store = await openRedisStore(url);
  const client = await createClient({ url }).connect();
  await client.configSet("appendonly", "no");
  const size = async () => Number(/used_memory:(\d+)/.exec(await client.info("memory"))[1]);
  const session = { provider: "quayside", issuer: "https://id.quayside.example", subject: "qs-10231" };
  const instants = { createdAt: noon, expiresAt: noon + 1e8 };
  const script = `
    for i = tonumber(ARGV[1]), tonumber(ARGV[2]) - 1 do
      local id, person = string.format('%043d', i), 'person-' .. i
      redis.call('SET', '{tenonsaw}:session:' .. id, (string.gsub(ARGV[3], 'ID', id)):gsub('PERSON', person) .. '')
      redis.call('SET', '{tenonsaw}:person:' .. person, (string.gsub(ARGV[4], 'PERSON', person)) .. '')
    end`;
  const texts = [
    JSON.stringify({ id: "ID", personId: "PERSON", ...session, ...instants }),
    JSON.stringify({
      id: "PERSON",
      name: "Maren Holt",
      email: "maren.holt@ferrywell.example",
      createdAt: noon,
    }),
  ];
  const fill = async (from, to) => {
    for (let at = from; at < to; at += 20_000)
      await client.eval(script, { arguments: [String(at), String(Math.min(at + 20_000, to)), ...texts] });
  };
  try {
    return await measure({ store, size, raw: (id) => client.get(`{tenonsaw}:session:${id}`), fill });
  } finally {
    await client.close();
    await store.close();
  }
}

async function measurePostgres(url) {
  const store = await openPostgresStore(url);
  const pool = new pg.Pool({ connectionString: url, max: 10 });
  const size = async () =>
    Number((await pool.query("SELECT pg_database_size(current_database()) AS size")).rows[0].size);
  const text = `SELECT ${columns} FROM tenonsaw.sessions s JOIN tenonsaw.people p ON p.id = s.person_id WHERE s.id = $1`;
  const fill = async (from, to) => {
    const numbers = `generate_series(${from}, ${to - 1}) AS i`;
    await pool.query(`INSERT INTO tenonsaw.people (id, name, email, created_at)
      SELECT 'person-' || i, 'Maren Holt', 'maren.holt@ferrywell.example', '${day}' FROM ${numbers}`);
    await pool.query(`INSERT INTO tenonsaw.sessions (id, person_id, provider, issuer, subject, created_at, expires_at)
      SELECT lpad(i::text, 43, '0'), 'person-' || i, 'quayside', 'https://id.quayside.example', 'qs-' || i,
        '${day}', '${day}' FROM ${numbers}`);
    await pool.query("ANALYZE");
  };
  try {
    return await measure({
      store,
      size,
      raw: (id) => pool.query({ name: "raw", text, values: [id] }),
      lean: (id) => pool.query({ name: "lean", text, values: [id], rowMode: "array" }),
      fill,
    });
  } finally {
    await pool.end();
    await store.close();
  }
}

/** @param lean the leanest read that the driver has, values without names; default: it has one way to read */
async function measure({ store, size, raw, lean = raw, fill }) {
  const before = await size();
  for (let number = 0; number < signIns; number += 1) await store.saveSignIn(signIn(number));
  const bytesEach = Math.round(((await size()) - before) / signIns);
  await fill(0, few);
  const [id] = [idOf(7)];
  const times = await timeInTurn(
    { raw: async () => raw(id), lean: async () => lean(id), ours: () => store.findSession(id) },
    { rounds: 150, batch: 20 },
  );
  const small = await p99(store, few);
  await fill(few, million);
  const large = await p99(store, million);
  return {
    read: rounded(median(times.raw) / median(times.ours)),
    leanRead: rounded(median(times.lean) / median(times.ours)),
    readMicroseconds: rounded(median(times.ours)),
    amongMillion: rounded(large / small),
    bytesEach,
  };
}

/**
 * Milliseconds that 99 of a hundred reads stay below, of sessions all over: the median of several slices, so that one
 * moment in which the machine did something else does not count.
 */
async function p99(store, count) {
  const slices = [];
  for (let slice = 0; slice < 12; slice += 1) {
    const times = [];
    for (let turn = 0; turn < 2000; turn += 1) {
      const id = idOf(((slice * 2000 + turn) * 7919) % count);
      const startedAt = performance.now();
      if (!(await store.findSession(id))) throw new Error(`there is no session ${id}`);
      times.push(performance.now() - startedAt);
    }
    times.sort((left, right) => left - right);
    // The first two warm up what is to be warm in either case.
    if (slice > 1) slices.push(times[1980]);
  }
  return median(slices);
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
    newPersonId: `own-person-${number}`,
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

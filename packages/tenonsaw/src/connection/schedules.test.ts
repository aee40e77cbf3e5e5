import { beforeAll, describe, expect, it } from "vitest";
import { createFakeWorld, issuer, noon, openFakeProvider } from "../../../../tests/support/fake-world.js";
import { fail, isProblem } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import {
  beginSession,
  readKeyRing,
  tokenPlace,
  unseal,
  type ConnectionRecord,
  type KeyRing,
  type SignInRecords,
  type Store,
} from "../session/index.js";
import { createMemoryStore } from "../stores/memory.js";
import { freshToken } from "./fresh-token.js";
import { createBackOff, createLeases, createStubborn, type Connecting } from "./index.js";

/**
 * The real code of a refresh under every schedule there is, within bounds: each question to the store and to the provider
 * waits until the search lets it happen. Processes stall (the answer comes half a minute later, and everybody's time goes
 * on), answers get lost, processes are killed before and after what they asked for.
 */
const stallSeconds = 30;
type Fault = "stall" | "lost" | "killed before" | "killed after";

interface Bounds {
  readonly switches: number;
  readonly faults: number;
  readonly kinds: readonly Fault[];
}

interface Question {
  readonly process: number;
  readonly name: string;
  readonly effect: () => Promise<unknown>;
  readonly resolve: (value: unknown) => void;
  readonly reject: (error: unknown) => void;
}

interface Choice {
  readonly question: Question;
  readonly fault?: Fault;
  readonly switches: number;
}

type Role = "refreshes" | "seals anew";

/** What ties writes and sendings to the lease, each to be taken out. */
interface Ties {
  readonly writes: boolean;
  readonly sendings: boolean;
}

const timeoutSeconds = 1;
const clock = { time: 0 };
const world = createFakeWorld({ now: () => noon + clock.time, monotonic: () => clock.time });
const limitsOf = () => ({ lifetimeSeconds: 86_400 });
let provider: Provider;
let ring: KeyRing;
let records: SignInRecords;
const stubborn = createStubborn(world.platform);
beforeAll(async () => {
  provider = await openFakeProvider(world, [], { timeoutSeconds });
  const { tools } = provider;
  const keys = [2, 1].map((byte) => Buffer.alloc(32, byte).toString("base64url"));
  ring = await readKeyRing(tools, keys.join(","));
  const catching: Store = {
    ...createMemoryStore(),
    saveSignIn(given) {
      records = given;
      return Promise.resolve({ person: { id: given.personId, createdAt: noon }, held: [] });
    },
  };
  const retired = await readKeyRing(tools, keys[1] ?? "");
  await beginSession({ tools, store: catching, ring: retired, limitsOf, app: "" }, "quayside", {
    identity: { issuer, subject: "qs-10231", profile: {}, claims: {}, isProved: true },
    grant: {
      issuer,
      clientId: "ferrywell",
      accessToken: "at-0",
      refreshToken: "rt-0",
      scope: "openid",
      obtainedAt: noon,
      expiresAt: noon + 3600,
    },
  });
});

/** One schedule, played from its beginning: which of the choices is taken each time; the first where nothing is said. */
async function play(roles: readonly Role[], ties: Ties, bounds: Bounds, taken: readonly number[]) {
  let [honoured, issued, last] = ["rt-0", 0, -1];
  clock.time = 0;
  const [violations, log]: [string[], string[]] = [[], []];
  const left = { switches: bounds.switches, faults: bounds.faults };
  const killed = new Set<number>();
  let isAnswerLost = false;
  const pending: Question[] = [];
  const counts: number[] = [];
  const ask = <Result>(process: number, name: string, effect: () => Promise<Result>) =>
    new Promise<Result>((resolve, reject) => {
      pending.push({ process, name, effect, resolve: resolve as Question["resolve"], reject });
    });
  const { tools } = provider;
  const shared = createMemoryStore(() => clock.time);
  await shared.saveSignIn(records);
  const sessionId = records.session.id;
  const stored = async () => {
    const record = await shared.findConnection(sessionId, "quayside");
    const sealed = record?.sealedRefreshToken ?? "";
    return {
      record,
      token: record && (await unseal(tools, ring, tokenPlace(record, "refresh-token"), sealed)),
    };
  };

  const tokenEndpoint = (sent: string) => {
    if (sent !== honoured) return Response.json({ error: "invalid_grant" }, { status: 400 });
    issued += 1;
    honoured = `rt-${issued}`;
    const answer = { access_token: `at-${issued}`, token_type: "Bearer", expires_in: 3600 };
    return Response.json({ ...answer, refresh_token: honoured });
  };
  const untied = (record: ConnectionRecord | undefined) =>
    record && { ...record, renewedUnder: Number.MAX_SAFE_INTEGER };
  const storeOf = (process: number): Store => ({
    ...shared,
    findConnection: (...values) =>
      ask(process, "read", async () => {
        const found = await shared.findConnection(...values);
        return ties.writes ? found : untied(found);
      }),
    takeLease: (...values) => ask(process, "take the lease", () => shared.takeLease(...values)),
    releaseLease: (...values) => ask(process, "give it back", () => shared.releaseLease(...values)),
    replaceConnection: (record, lease) =>
      ask(process, "write", () =>
        ties.writes
          ? shared.replaceConnection(record, lease)
          : shared.replaceConnection({ ...record, renewedUnder: 0 }),
      ),
  });
  const connections: Connecting[] = [];
  const wanted = { name: "tidebook", provider: "quayside" };
  const startProcess = (process: number, role: Role) => {
    const clocks = ties.sendings ? {} : { now: () => noon, monotonic: () => 0 };
    const given = (text: BodyInit | null | undefined) =>
      new URLSearchParams(text as string).get("refresh_token") ?? "";
    const platform = {
      ...tools.platform,
      ...clocks,
      // Whoever waits for a lease waits in big steps, so that it is over after a few.
      wait: () => ask(process, "wait", async () => void (clock.time += 3)),
      fetch: (_: string, { body }: RequestInit) => {
        const sentAt = clock.time;
        const sent = given(body);
        // Known is what is in the store in the moment of sending: what is written later nobody can have read.
        void stored().then(({ token }) => {
          if (token !== sent)
            violations.push(`process ${process} knowingly sent ${sent} beside ${token ?? "nothing"}`);
        });
        return ask(process, "send", async () => {
          // The cut-off: what is on its way for longer is given up.
          if (clock.time - sentAt > timeoutSeconds) fail("platform.too-slow");
          return Promise.resolve(tokenEndpoint(sent));
        });
      },
    };
    const own = { ...tools, platform };
    const connecting: Connecting = {
      tools: own,
      store: storeOf(process),
      ring,
      limitsOf,
      app: "",
      leases: createLeases(platform),
      backOff: createBackOff(platform),
      unwritten: new Map(),
      // Big tables, and nothing of this is about them.
      stubborn,
      takeBack: () => Promise.resolve(),
      owner: `process ${process}`,
      openProvider: () => Promise.resolve({ ...provider, tools: own }),
      openOAuth1: () => fail("provider.other-protocol"),
    };
    connections.push(connecting);
    // One whose API has refused the token refreshes; for the other the token is good, and sealed with a retired key.
    return ask(process, "begin", () => shared.findConnection(sessionId, "quayside"))
      .then((connection) =>
        freshToken(
          connecting,
          { sessionId },
          wanted,
          role === "refreshes" && connection ? { connection, token: connection } : undefined,
        ),
      )
      .catch((error: unknown) => {
        if (!isProblem(error)) violations.push(`process ${process} ended in ${String(error)}`);
      });
  };
  const settle = () => new Promise((resolve) => setImmediate(resolve));

  for (const [process, role] of roles.entries()) void startProcess(process, role);
  await settle();
  for (let step = 0; pending.length > 0 && step < 200; step += 1) {
    const isOn = pending.some(({ process }) => process === last);
    const choices = pending.flatMap((question): Choice[] => {
      const switches = isOn && question.process !== last ? 1 : 0;
      if (switches > left.switches) return [];
      // A wait is nobody's answer; what is sent is on its way, and no stall of the sender's is noticed there.
      const kinds =
        question.name === "wait" || question.name === "begin" || left.faults === 0 ? [] : bounds.kinds;
      const fitting = kinds.filter((kind) => question.name !== "send" || kind !== "stall");
      return [{ question, switches }, ...fitting.map((fault) => ({ question, fault, switches }))];
    });
    choices.sort(
      (a, b) => a.switches - b.switches || Number(a.fault !== undefined) - Number(b.fault !== undefined),
    );
    const chosen = choices[taken[step] ?? 0];
    if (!chosen) break;
    counts.push(choices.length);
    const { question, fault, switches } = chosen;
    pending.splice(pending.indexOf(question), 1);
    left.switches -= switches;
    left.faults -= fault === undefined ? 0 : 1;
    last = question.process;
    log.push(`process ${question.process}: ${question.name}${fault === undefined ? "" : ` (${fault})`}`);
    const answer = fault === "killed before" ? undefined : question.effect();
    const result = await answer?.catch(question.reject);
    if (fault?.startsWith("killed")) {
      killed.add(last);
      // What it has asked for and not got is nobody's any more.
      for (const other of pending.filter((each) => each.process === last))
        pending.splice(pending.indexOf(other), 1);
    } else if (fault === "stall") {
      clock.time += stallSeconds;
      const later = { ...question, name: `${question.name}, late`, effect: () => Promise.resolve(result) };
      pending.push(later);
    } else if (fault === "lost") {
      if (question.name === "send") isAnswerLost = true;
      try {
        fail(question.name === "send" ? "platform.too-slow" : "store.unavailable");
      } catch (error) {
        question.reject(error);
      }
    } else question.resolve(result);
    await settle();
  }
  // Some time later everybody who is left asks once more, and nothing goes wrong.
  for (const [process, connecting] of connections.entries()) {
    if (killed.has(process)) continue;
    clock.time += 120;
    const calling = freshToken(connecting, { sessionId }, wanted).catch(() => undefined);
    const isDone = calling.then(() => true);
    while (!(await Promise.race([isDone, settle().then(() => false)]))) {
      const question = pending.shift();
      await question?.effect().then(question.resolve, question.reject);
    }
  }
  const { record, token } = await stored();
  // Whoever is killed takes along what they alone had; and an answer that gets lost on the way is nobody's.
  const isExcused = killed.size > 0 || isAnswerLost;
  if (!isExcused && (token !== honoured || record?.status !== "active"))
    violations.push(
      `${honoured} is honoured, and ${token ?? "nothing"} is stored, ${record?.status ?? "gone"}`,
    );
  return { violations, counts, log };
}

/** Plays every schedule within the bounds; the first that violates anything, or how many there were. */
async function search(roles: readonly Role[], ties: Ties, bounds: Bounds) {
  let taken: number[] = [];
  for (let count = 1; ; count += 1) {
    const { violations, counts, log } = await play(roles, ties, bounds, taken);
    if (violations.length > 0) return { found: violations[0], schedule: log, count };
    const next = [...taken, ...Array.from({ length: counts.length - taken.length }, () => 0)];
    while (next.length > 0 && (next.at(-1) ?? 0) + 1 >= (counts[next.length - 1] ?? 0)) next.pop();
    if (next.length === 0) return { found: undefined, schedule: [], count };
    next[next.length - 1] = (next.at(-1) ?? 0) + 1;
    taken = next;
  }
}

describe("every schedule of a refresh", () => {
  const tied = { writes: true, sendings: true };
  const all: Bounds["kinds"] = ["stall", "lost", "killed before", "killed after"];

  // `npm run prove` goes further than there is time for each time.
  const isDeep = process.env["EXPIRIES"] !== undefined;
  const two: Role[] = ["refreshes", "refreshes"];
  const searches: [string, Role[], Bounds, number][] = [
    ["two that refresh", two, { switches: isDeep ? 2 : 1, faults: 1, kinds: all }, 500],
    ["two that refresh and stall", two, { switches: 1, faults: 2, kinds: ["stall"] }, 1000],
    [
      "one that refreshes, one that seals anew",
      ["refreshes", "seals anew"],
      { switches: isDeep ? 2 : 1, faults: 1, kinds: all },
      500,
    ],
    [
      "three that refresh",
      [...two, "refreshes"],
      { switches: 1, faults: isDeep ? 1 : 0, kinds: ["stall", "lost"] },
      50,
    ],
  ];
  it.each(searches)(
    "of %s sends no spent token knowingly and drops no good one",
    async (_, roles, bounds, atLeast) => {
      const { found, schedule, count } = await search(roles, tied, bounds);
      expect([found, schedule]).toEqual([undefined, []]);
      expect(count).toBeGreaterThan(atLeast);
    },
  );

  it("shows a spent token being sent where sendings are not tied to the lease", async () => {
    const { found } = await search(
      ["refreshes", "refreshes"],
      { writes: true, sendings: false },
      {
        switches: 1,
        faults: 1,
        kinds: ["stall"],
      },
    );
    expect(found).toMatch(/knowingly sent rt-0/);
  });

  it("shows a good token being dropped where writes are not tied to the lease", async () => {
    const { found } = await search(
      ["refreshes", "seals anew"],
      { writes: false, sendings: true },
      {
        switches: 2,
        faults: 1,
        kinds: ["stall"],
      },
    );
    expect(found).toMatch(/is honoured, and rt-0 is stored/);
  });
});

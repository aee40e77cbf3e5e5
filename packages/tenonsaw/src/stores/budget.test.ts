import { describe, expect, it } from "vitest";
import { problemOf } from "../../../../tests/support/fake-world.js";
import type { Store } from "../session/index.js";
import { createBudget, withinBudget } from "./budget.js";
import { createMemoryStore } from "./memory.js";

const limits = { deadlineSeconds: 0.3, mostWaiting: 3 };
const never = () => new Promise<never>(() => undefined);
const wait = (seconds: number) => new Promise((resolve) => setTimeout(resolve, seconds * 1000));

describe("the budget of a store", () => {
  it("gives up a call without an answer, refuses at once after three, and finds out by one whether it is back", async () => {
    let away = 0;
    const { ask } = createBudget("a store", () => (away += 1), limits);
    const calls = [1, 2, 3].map(() => problemOf(() => ask(never)));
    for (const { code, received } of await Promise.all(calls))
      expect([code, received]).toEqual(["store.unavailable", "a store: no answer within 0.3 s"]);
    let asked = 0;
    const answer = () => {
      asked += 1;
      return Promise.resolve("back");
    };
    expect(await problemOf(() => ask(answer))).toMatchObject({
      received: "a store: has not answered for a while",
      retryAfterSeconds: 1,
    });
    expect([asked, away]).toEqual([0, 1]);
    await wait(1.05);
    const [first, second] = [ask(answer), problemOf(() => ask(answer))];
    expect([await first, (await second).code, asked]).toEqual(["back", "store.unavailable", 1]);
    expect(await ask(answer)).toBe("back");
  });

  it.each([
    ["an answer", () => Promise.resolve("here")],
    ["a refusal", () => Promise.reject(new Error("no such table"))],
  ])("counts its calls without an answer from the beginning again after %s", async (_, answer) => {
    const { ask } = createBudget("a store", undefined, limits);
    const goUnanswered = () => Promise.all([1, 2].map(() => problemOf(() => ask(never))));
    await goUnanswered();
    await ask<string>(answer).catch(() => undefined);
    await goUnanswered();
    expect(await ask(() => Promise.resolve("there"))).toBe("there");
  });

  it.each<[string, string | undefined, string, string | undefined]>([
    ["a server that is not started", "ECONNREFUSED", "connect ECONNREFUSED 127.0.0.1:6379", "not-there"],
    ["a name that nobody knows", "ENOTFOUND", "getaddrinfo ENOTFOUND db", "host-unknown"],
    [
      "a wrong password at PostgreSQL",
      "28P01",
      'password authentication failed for user "club"',
      "credentials",
    ],
    [
      "no password at Redis",
      undefined,
      "NOAUTH HELLO must be called with the client already authenticated",
      "credentials",
    ],
    ["a wrong password at Redis", undefined, "WRONGPASS invalid username-password pair", "credentials"],
    ["no such database", "3D000", 'database "club" does not exist', "no-database"],
    ["no such number of a database", undefined, "ERR DB index is out of range", "no-database"],
    ["a user who may not", "42501", "permission denied for database club", "not-allowed"],
    ["a file of somebody else's", "EACCES", "EACCES: permission denied, open 'app.db'", "not-allowed"],
    ["a replica of PostgreSQL", "25006", "cannot execute INSERT in a read-only transaction", "read-only"],
    ["a replica of Redis", undefined, "READONLY You can't write against a read only replica.", "read-only"],
    ["a full disk", "SQLITE_FULL", "database or disk is full", "full"],
    ["a full Redis", undefined, "OOM command not allowed when used memory > 'maxmemory'.", "full"],
    ["too many connections", "53300", "sorry, too many clients already", "crowded"],
    ["a server without TLS", undefined, "The server does not support SSL connections", "tls"],
    [
      "an unknown authority",
      "SELF_SIGNED_CERT_IN_CHAIN",
      "self-signed certificate in certificate chain",
      "tls",
    ],
    ["anything else", undefined, "the moon is in the way", undefined],
  ])("says why a store cannot be used: %s", async (_, code, message, because) => {
    const { ask } = createBudget("a store", undefined, limits);
    const error = Object.assign(new Error(message), code !== undefined && { code });
    const problem = await problemOf(() => ask(() => Promise.reject(error)));
    expect([problem.code, problem.because]).toEqual(["store.unavailable", because]);
    expect(problem.received).toBe(`a store: ${message}`);
  });

  it("lets so many wait and no more, and tells the work that its time is over", async () => {
    const { ask } = createBudget("a store", undefined, limits);
    const seen: boolean[] = [];
    const slow = ask(async (call) => {
      await wait(0.5);
      seen.push(call.isOver);
    }).catch(() => undefined);
    const others = [ask(never), ask(never)].map((each) => each.catch(() => undefined));
    expect((await problemOf(() => ask(never))).received).toContain("3 calls are waiting");
    await Promise.all([slow, ...others]);
    await wait(0.3);
    expect(seen).toEqual([true]);
  });

  it("reads an answer that lies ready before it gives up, though this process stood still", async () => {
    const { ask } = createBudget("a store", undefined, limits);
    const answered = ask(() => wait(0.05).then(() => "late, and there"));
    const until = performance.now() + 600;
    while (performance.now() < until);
    expect(await answered).toBe("late, and there");
  });

  it("makes a store of anybody's harmless: foreign errors, methods that throw, and silence", async () => {
    class Own {
      readonly password = "hush";
      findSession() {
        return Promise.reject(Object.assign(new TypeError("no such table"), { password: this.password }));
      }
      endSession() {
        throw new RangeError("not a promise");
      }
      findIdentity = never;
      namePerson = never;
    }
    const own = new Own() as unknown as Store;
    const store = withinBudget(own, createBudget("the store", undefined, limits));
    for (const work of [
      () => store.findSession("s1"),
      () => store.endSession("s1"),
      () => store.findIdentity("i", "s"),
      () => store.namePerson?.({ issuer: "i", subject: "s" }),
      () => store.close(),
    ])
      expect((await problemOf(work)).code).toBe("store.unavailable");
    expect(withinBudget(store)).toBe(store);
    const memory = withinBudget(createMemoryStore());
    expect(await memory.findSession("s1")).toBeUndefined();
    expect(memory.namePerson).toBeUndefined();
  });
});

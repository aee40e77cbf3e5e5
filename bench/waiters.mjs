// How long those wait who need a token that somebody else is renewing: two apps on one store, hundreds of calls at once,
// a provider that takes its time.
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { createPlatform } from "tenonsaw/platform";
import { createSignIn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { median } from "./machine.mjs";

/** Seconds by which the provider's answer is held back. */
const holdSeconds = 0.3;

/** Each wait counts against the latency that the provider's answer had in its own round, as the app saw it. */
export async function measureWaiters(rounds = 20, callsEach = 100) {
  const folder = mkdtempSync(join(tmpdir(), "tenonsaw-bench-"));
  const practice = await startPractice({ algorithm: "ES256" });
  let [ahead, latency] = [0, 0];
  const platform = createPlatform({
    now: () => Date.now() / 1000 + ahead,
    async fetch(url, init) {
      if (!url.endsWith("/token") || ahead === 0) return fetch(url, init);
      const startedAt = performance.now();
      await new Promise((resolve) => setTimeout(resolve, holdSeconds * 1000));
      const answer = await fetch(url, init);
      latency = performance.now() - startedAt;
      return answer;
    },
  });
  const origin = "http://localhost:9";
  practice.register({ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] });
  const start = async () => {
    const store = await openSqliteStore(join(folder, "sessions.db"));
    const signIn = await createSignIn({
      origin,
      keys: Buffer.alloc(32, 1).toString("base64url"),
      store,
      platform,
      providers: {
        quayside: {
          issuer: practice.issuer,
          clientId: "ferrywell",
          clientSecret: defaultClient.clientSecret,
          scope: "openid offline_access tides.read",
        },
      },
      apis: { tidebook: { provider: "quayside", origin: practice.tidebook } },
    });
    return { store, signIn };
  };
  const apps = [await start(), await start()];
  const cookie = await signInOnce(apps[0].signIn, origin);
  const sessions = await Promise.all(
    apps.map(({ signIn }) => signIn.session(new Request(origin, { headers: { cookie } }))),
  );
  const [latencies, beyond] = [[], []];
  for (let round = 1; round <= rounds; round += 1) {
    ahead = round * 3600;
    const waits = [];
    await Promise.all(
      sessions.flatMap((session) =>
        Array.from({ length: callsEach }, async () => {
          const startedAt = performance.now();
          await session.token("tidebook");
          waits.push(performance.now() - startedAt);
        }),
      ),
    );
    latencies.push(latency);
    beyond.push(...waits.map((wait) => wait - 1.1 * latency));
  }
  for (const { store } of apps) await store.close();
  await practice.stop();
  rmSync(folder, { recursive: true });
  beyond.sort((left, right) => left - right);
  return {
    latencyMilliseconds: Math.round(median(latencies)),
    p99MillisecondsBeyond: Math.round(beyond[Math.floor(beyond.length * 0.99)]),
  };
}

/** Without a server: the browser's part is played by hand. */
async function signInOnce(signIn, origin) {
  const begun = await signIn.handle(new Request(`${origin}/sign-in/to/quayside`));
  const browser = begun.headers.getSetCookie()[0].split(";")[0];
  const visitor = createVisitor();
  await visitor.open(begun.headers.get("location"));
  const page = await visitor.press("Maren");
  const form = new URLSearchParams({
    request: /name="request" value="([^"]+)"/.exec(page.text)[1],
    decision: "allow",
  });
  const decided = await visitor.fetch(new URL("/authorize/decision", page.url).href, {
    method: "POST",
    body: form,
  });
  const done = await signIn.handle(
    new Request(decided.headers.get("location"), { headers: { cookie: browser } }),
  );
  return done.headers.getSetCookie()[0].split(";")[0];
}

import { mkdtemp, readFile, rm, stat, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createSignIn } from "tenonsaw/server";
import { traceDocument } from "tenonsaw/trace-page";
import { createMemoryStore } from "tenonsaw/stores/memory";
import type { TraceRecord } from "tenonsaw/trace";
import { createVisitor, startPractice, type Practice } from "tenonsaw-practice";
import { createFakeWorld, issuer } from "./support/fake-world.js";
import { freePorts } from "../scripts/servers.mjs";
import { start } from "./support/processes.js";
import { startApp, type App } from "./support/start-app.js";
import { sealingKey } from "../scripts/sealing-key.mjs";

let practice: Practice;
let app: App;
beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
  app = await startApp(practice);
});
afterAll(async () => {
  await app.stop();
  await practice.stop();
});

async function signIn(person: string, path = "/tides") {
  const visitor = createVisitor();
  await visitor.open(app.origin + path);
  await visitor.press("Sign in with Quayside ID");
  await visitor.press(person);
  return visitor;
}

async function records(): Promise<readonly TraceRecord[]> {
  const answer = await fetch(`${app.origin}/sign-in/trace?as=json`);
  return ((await answer.json()) as { records: readonly TraceRecord[] }).records;
}

const namesOf = ({ events }: TraceRecord) =>
  events.flatMap((event) =>
    event.kind === "leg"
      ? [event.leg]
      : event.kind === "note"
        ? [event.note.split(":")[0]]
        : event.kind === "way"
          ? [event.title.split(":")[0]]
          : [],
  );

describe("the trace page", () => {
  it("keeps apart what two people do at once, from the beginning to the end of each way", async () => {
    const [maren, zoe] = [await signIn("Maren"), await signIn("Zoë")];
    await Promise.all([maren.press("Yes, allow"), zoe.press("Yes, allow")]);
    const all = await records();
    const ways = all.filter(({ title }) => title === "Sign-in at quayside");
    expect(ways.map(({ ending }) => ending)).toEqual(["signed in", "signed in"]);
    for (const way of ways) {
      const names = namesOf(way);
      for (const once of [
        "sent to quayside",
        "back from quayside with code, state, iss",
        "token request",
        "signed in",
      ])
        expect(
          names.filter((name) => name === once),
          once,
        ).toHaveLength(1);
    }
    const calls = all.filter(({ title }) => title === "Call of tidebook: GET /tides/today");
    expect(calls.map(namesOf)).toEqual([
      ["Call of tidebook", "API request"],
      ["Call of tidebook", "API request"],
    ]);
  });

  it("shows each leg, each check with its values, and the failing one with what to change; no secret", async () => {
    practice.rehearse("nonce-wrong");
    const visitor = await signIn("Maren", "/tides?day=3");
    const failed = await visitor.press("Yes, allow");
    practice.rehearse();
    expect(failed.text).toContain('href="/sign-in/trace"');
    const answer = await fetch(`${app.origin}/sign-in/trace`);
    const html = await answer.text();
    expect(html).toContain("It failed: identity.nonce-mismatch");
    expect(html).toMatch(/token request: POST http[^<]+\/token/);
    expect(html).toMatch(/✗ <b>The ID token belongs to another sign-in/);
    expect(html).toMatch(/<dt>expected<\/dt><dd>the value with fingerprint #[0-9a-f]{8}/);
    expect(html).toMatch(/<dt>change here<\/dt><dd>Start again/);
    expect(html).not.toMatch(/only-for-practice|eyJ[\w-]+\./);
    expect(html).not.toMatch(/<(script|link|img|iframe)|https?:\/\/[^"<]*\.(css|js)/);
    expect(answer.headers.get("content-security-policy")).toMatch(/^default-src 'none'; style-src 'sha256-/);
    const [first, ...rest] = await records();
    const good = rest.find(({ ending }) => ending === "signed in");
    const pair = await (
      await fetch(`${app.origin}/sign-in/trace?show=${first?.id}&beside=${good?.id}`)
    ).text();
    expect(pair).toContain("Two beside each other");
    expect(pair).toMatch(/\d+ steps are the same/);
    expect(pair).toMatch(
      /class="differs"><td>≠<\/td><td>[^]*The ID token belongs to another sign-in[^]*checked: identity\.nonce-mismatch/,
    );
  });

  it("keeps so many and no more, and of what strangers send only so much", async () => {
    for (let count = 0; count < 40; count += 1)
      await fetch(`${app.origin}/sign-in/from/quayside?state=${"x".repeat(500)}${count}`);
    const all = await records();
    expect(all.length).toBeLessThanOrEqual(30);
    expect(JSON.stringify(all).length).toBeLessThan(200_000);
  });

  it.each<[string, object, string, Record<string, string>]>([
    ["in production", { development: false }, "http://localhost:3000", {}],
    [
      "at an origin that is not this machine's",
      { development: true, origin: "https://ferrywell.example" },
      "https://ferrywell.example",
      {},
    ],
    ["under a name that leads here", { development: true }, "http://rebound.example", {}],
    [
      "for a page of another site",
      { development: true },
      "http://localhost:3000",
      { "sec-fetch-site": "cross-site" },
    ],
  ])("is not there %s", async (_name, settings, at, headers) => {
    const { platform } = createFakeWorld();
    const signInAt = await createSignIn({
      origin: "http://localhost:3000",
      keys: sealingKey,
      store: createMemoryStore(),
      providers: { quayside: { issuer, clientId: "ferrywell" } },
      platform,
      ...settings,
    });
    const answer = await signInAt.handle(
      new Request(`${at}/sign-in/trace`, { headers: { host: new URL(at).host, ...headers } }),
    );
    expect(answer?.status).toBe(404);
  });

  it("takes nothing in a record for markup", () => {
    const evil = '"><script>alert(1)</script>';
    const leg = {
      kind: "leg",
      station: "grant",
      leg: evil,
      method: "GET",
      url: evil,
      sent: { [evil]: evil },
      received: {},
      at: 1,
      durationSeconds: 1,
    } as const;
    const note = { kind: "note", station: "server", note: evil, detail: { [evil]: evil }, at: 1 } as const;
    const record: TraceRecord = { id: evil, title: evil, beganAt: 1, ending: evil, events: [leg, note] };
    const other = { ...record, id: "2" };
    for (const html of [
      traceDocument({ records: [record] }),
      traceDocument({ records: [other, record], path: "/t", show: "2", beside: evil }),
    ])
      expect(html).not.toContain("<script");
  });
});

describe("tenonsaw try --page", () => {
  it("writes a page of its own, and data that explain reads", async () => {
    const folder = await mkdtemp(join(tmpdir(), "trace-"));
    const [page, data] = [join(folder, "trace.html"), join(folder, "trace.json")];
    const settings = join(folder, "tenonsaw.config.json");
    const quayside = {
      issuer: practice.issuer,
      clientId: "ferrywell",
      clientSecret: { env: "QUAYSIDE_SECRET" },
      scope: "openid profile",
      profile: { picture: "/auth_time" },
      sessionClaims: { roles: "/roles", club: "/club" },
    };
    await writeFile(settings, JSON.stringify({ origin: "http://localhost:5173", providers: { quayside } }));
    const env = { QUAYSIDE_SECRET: practice.client.clientSecret ?? "" };
    const command = "packages/tenonsaw/bin/tenonsaw.js";
    const redirectUri = `${app.origin}/sign-in/from/quayside`;
    for (const file of [page, data]) {
      // The app's own address is taken: a port of its own, registered for the time being.
      const back = redirectUri.replace(/:\d+/, `:${await freePorts(1)}`);
      practice.register({ ...practice.client, redirectUris: [redirectUri, back] });
      const args = ["try", "quayside", "--settings", settings, "--redirect-uri", back, "--page", file];
      const running = start(command, args, { env });
      const said = await running.waitFor("Waiting. Ctrl-C ends it.");
      const visitor = createVisitor();
      await visitor.open(/(http:\S+\/authorize\?\S+)/.exec(said)?.[1] ?? "");
      await visitor.press("Maren");
      await visitor.press("Yes, allow");
      const ended = await running.finished;
      expect(ended.code).toBe(0);
      // What the settings ask for decides what comes.
      expect(ended.output).toMatch(/no email +scope email was not asked for/);
      expect(ended.output).not.toMatch(/no name/);
      expect(ended.output).toMatch(/no picture +what the provider sends as such is a number, and no text/);
      expect(ended.output).toMatch(/claim roles +\[/);
      expect(ended.output).toMatch(/no claim club +nothing at \/club of its claims \(there were: /);
      // Before anybody signs in for nothing.
      const taken = await start(command, args, { env }).finished;
      expect([taken.code, taken.output]).toEqual([2, ""]);
      expect(taken.errors).toContain("Name another file, or move this one away.");
    }
    const html = await readFile(page, "utf8");
    expect(html).toContain("Sign-in at quayside, tried");
    expect(html).toContain("It ended: signed in");
    expect(html).not.toMatch(/eyJ[\w-]+\.|<a /);
    expect((await stat(page)).mode & 0o077).toBe(0);
    const explained = await start(command, ["explain", await readFile(data, "utf8")], { env }).finished;
    expect(explained.output).toMatch(/TRACE {2}Sign-in at quayside, tried: signed in/);
    expect(explained.output).toMatch(/app → provider: token request/);
    // Where nobody was ever asked to sign in, it says why.
    const nobody = { ...quayside, issuer: `http://localhost:${await freePorts(1)}` };
    const apis = { tidebook: { provider: "quayside", origin: practice.tidebook } };
    const providers = { quayside: nobody };
    await writeFile(settings, JSON.stringify({ origin: "http://localhost:5173", providers, apis }));
    const lost = join(folder, "lost.json");
    const trying = ["try", "quayside", "--settings", settings, "--redirect-uri", app.origin, "--page", lost];
    const misspelt = await start(command, [...trying, "--call", "tidbook/tides"], { env }).finished;
    expect([misspelt.code, misspelt.output]).toEqual([2, ""]);
    expect(misspelt.errors).toMatch(/connection\.api-unknown[\s\S]*one of tidebook/);
    await rm(lost);
    expect((await start(command, trying, { env }).finished).code).toBe(2);
    const untold = await start(command, ["explain", await readFile(lost, "utf8")], { env }).finished;
    expect(untold.output).toMatch(/TRACE {2}Sign-in at quayside, tried: platform\.unreachable/);
    for (const broken of [
      "{}",
      '[{"title":"x"}]',
      '[{"title":"x","beganAt":1,"events":[{"kind":"check","at":1,"check":"toString","verdict":"failed"}]}]',
    ])
      expect(
        (await start(command, ["explain", `{"kind":"trace","records":${broken}}`], { env }).finished).code,
      ).toBe(2);
    await rm(folder, { recursive: true });
  });
});

import { createHash } from "node:crypto";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createVisitor, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import { startApp, type App } from "../../../../../tests/support/start-app.js";
import { createMemoryStore } from "../../stores/memory.js";
import { createSignIn, readSettingsText, type SignInSettings } from "../index.js";

let practice: Practice;
let app: App | undefined;
let visitor: Visitor;

beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
});
afterAll(() => practice.stop());
beforeEach(() => {
  visitor = createVisitor();
});
afterEach(async () => {
  practice.rehearse();
  await app?.stop();
});

async function start(changes: Partial<SignInSettings> = {}): Promise<App> {
  app = await startApp(practice, changes);
  return app;
}

const json = { accept: "application/json" };

/** Begins as told and goes on to where the provider would send the browser back. */
async function comeBack(query = "", decision = "allow"): Promise<string> {
  await visitor.open(`${app!.origin}/sign-in/to/quayside?returnTo=/tides${query}`);
  if (visitor.page?.text.includes("Pick a made-up member")) await visitor.press("Maren");
  const request = /name="request" value="([^"]+)"/.exec(visitor.page?.text ?? "")?.[1] ?? "";
  const answer = await visitor.fetch(`${practice.issuer}/authorize/decision`, {
    method: "POST",
    body: new URLSearchParams({ request, decision }),
  });
  return answer.headers.get("location") ?? "";
}

/** What the window that opened this one is told. */
function told(text: string): unknown {
  const value = /<data id="ending" value="([^"]*)"/.exec(text)?.[1];
  return value === undefined ? undefined : JSON.parse(value.replaceAll("&quot;", '"'));
}

describe("a sign-in that a front end begins", () => {
  it("is told where to send the browser, and how it ended", async () => {
    await start();
    const begun = await visitor.fetch(`${app!.origin}/sign-in/to/quayside?returnTo=/tides`, {
      headers: json,
    });
    const { goTo } = (await begun.json()) as { goTo: string };
    expect([begun.status, new URL(goTo).origin]).toEqual([200, practice.issuer]);
    expect(begun.headers.get("set-cookie")).toContain("tenonsaw-browser=");
    const granted = await visitor.fetch(await comeBack(), { headers: json });
    expect(await granted.json()).toEqual({ kind: "granted", returnTo: "/tides" });
    expect(granted.headers.get("set-cookie")).toContain("tenonsaw-session=");
    const declined = await visitor.fetch(await comeBack("", "deny"), { headers: json });
    expect([declined.status, await declined.json()]).toEqual([200, { kind: "declined", returnTo: "/tides" }]);
  });

  it.each([
    [true, { code: "identity.nonce-mismatch", title: expect.any(String) as string }],
    [false, { code: "identity.nonce-mismatch", status: 403 }],
  ])("is told what failed (development: %s)", async (development, problem) => {
    await start({ development });
    practice.rehearse("nonce-wrong");
    const failed = await visitor.fetch(await comeBack(), { headers: json });
    const body = (await failed.json()) as { kind: string; problem: object };
    expect([failed.status, body.kind]).toEqual([403, "failed"]);
    expect(body.problem).toMatchObject(problem);
    if (!development) expect(Object.keys(body.problem)).toEqual(["code", "status"]);
  });

  it("gets a page where it would take one as well", async () => {
    await start();
    const url = `${app!.origin}/sign-in/nowhere`;
    const type = async (accept: string) =>
      (await visitor.fetch(url, { headers: { accept } })).headers.get("content-type");
    expect(await type("application/json, text/html")).toContain("text/html");
    expect(await type("*/*")).toContain("text/html");
    expect(await type("application/json")).toContain("application/json");
  });
});

describe("a sign-in in a window of its own", () => {
  it("tells the page that opened it, by a script whose hash is in the policy", async () => {
    await start();
    const page = await visitor.open(await comeBack("&in=pop-up"));
    expect([page.status, told(page.text)]).toEqual([200, { kind: "granted", returnTo: "/tides" }]);
    const script = /<script>(.*?)<\/script>/.exec(page.text)?.[1] ?? "";
    const hash = createHash("sha256").update(script).digest("base64url");
    expect(page.headers.get("content-security-policy")).toContain(`'sha256-${hash}='`);
    // To this app's own origin and to no other.
    expect(script).toMatch(/postMessage\(\{from:'tenonsaw',\.\.\.end\},location\.origin\)/);
    expect(visitor.cookies.get("localhost")?.has("tenonsaw-session")).toBe(true);
  });

  it("tells that the person declined, and that it failed, with a way to try again in the same window", async () => {
    await start({ pages: { declined: "/not-here" } });
    const declined = await visitor.open(await comeBack("&in=pop-up", "deny"));
    expect(told(declined.text)).toEqual({ kind: "declined", returnTo: "/tides" });
    practice.rehearse("nonce-wrong");
    const failed = await visitor.open(await comeBack("&in=pop-up"));
    expect([failed.status, told(failed.text)]).toEqual([
      403,
      { kind: "failed", returnTo: "/tides", problem: "identity.nonce-mismatch" },
    ]);
    expect(failed.text).toContain('href="/sign-in/to/quayside?in=pop-up"');
  });

  it("is offered by the chooser in the same form", async () => {
    await start();
    const page = await visitor.open(`${app!.origin}/sign-in?in=pop-up&returnTo=/tides`);
    expect(page.text).toContain('href="/sign-in/to/quayside?returnTo=%2Ftides&amp;in=pop-up"');
  });

  it("cannot be told anything that is not data", async () => {
    await start();
    const page = await visitor.open(
      `${app!.origin}/sign-in?in=pop-up&returnTo=${encodeURIComponent('/"><script>alert(1)</script>')}`,
    );
    expect(page.text).not.toContain("<script>alert");
  });
});

describe("the built-in pages", () => {
  const chooser = (language: string) =>
    visitor.open(`${app!.origin}/sign-in`, { "accept-language": language });

  it.each([
    ["de-CH, de;q=0.9, en;q=0.5", "de", "Anmelden mit Quayside ID"],
    ["en-GB", "en", "Sign in with Quayside ID"],
    ["fr, ja;q=0.5", "en", "Sign in with Quayside ID"],
    ["da", "da", "Log ind hos Quayside ID"],
    ["*", "en", "Sign in with Quayside ID"],
    ["\u0001;;q=,,", "en", "Sign in with Quayside ID"],
  ])("speak the language of %j", async (accepted, language, text) => {
    await start({ texts: { da: { signIn: "Log ind", signInWith: "Log ind hos {provider}" } } });
    const page = await chooser(accepted.replace("\u0001", "x"));
    expect(page.text).toContain(`<html lang="${language}">`);
    expect(page.text).toContain(text);
  });

  it("say what the settings say instead, and a failure is in the visitor's language as well", async () => {
    await start({ texts: { en: { choose: "Which boat club are you with?" } }, development: false });
    expect((await chooser("en")).text).toContain("Which boat club are you with?");
    const failed = await visitor.open(`${app!.origin}/sign-in/nowhere`, { "accept-language": "de" });
    expect(failed.text).toContain("Das hat nicht geklappt");
    expect(failed.text).toContain("(server.route-unknown)");
    expect(failed.text).not.toContain("Expected");
  });

  it("take their look from the settings, and the policy admits that look alone", async () => {
    await start({ theme: { accent: "light-dark(#0b6272, #6cc5d3)", corner: "0" } });
    const page = await chooser("en");
    const style = /<style>([\s\S]*?)<\/style>/.exec(page.text)?.[1] ?? "";
    expect(style).toContain("--accent:light-dark(#0b6272, #6cc5d3)");
    const hash = createHash("sha256").update(style).digest("base64url");
    expect(page.headers.get("content-security-policy")).toContain(`style-src 'sha256-${hash}='`);
  });

  it.each(["red;}body{display:none", "</style><script>", "url(x);"])(
    "take no more than a value: %s",
    async (accent) => {
      await expect(start({ theme: { accent } })).rejects.toMatchObject({
        problem: { code: "provider.settings-refused", findings: [{ path: "theme.accent" }] },
      });
      app = undefined;
    },
  );

  it("are in no frame, but where the settings say whose", async () => {
    await start();
    expect((await chooser("en")).headers.get("content-security-policy")).toMatch(/frame-ancestors 'none'$/);
    await app!.stop();
    await start({ pages: { frameAncestors: ["https://portal.ferrywell.example"] } });
    expect((await chooser("en")).headers.get("content-security-policy")).toMatch(
      /frame-ancestors https:\/\/portal\.ferrywell\.example$/,
    );
  });

  it("keep the code from leaking by the referrer", async () => {
    await start();
    practice.rehearse("nonce-wrong");
    const page = await visitor.open(await comeBack());
    expect([page.status, page.headers.get("referrer-policy")]).toEqual([403, "no-referrer"]);
    expect(page.text).not.toMatch(/[?&]code=/);
  });
});

describe("the rate of requests", () => {
  it("is what the app admits, told with how long to wait", async () => {
    let left = 2;
    await start({
      limitRate: (request) =>
        new URL(request.url).pathname.includes("/to/") && left-- <= 0 ? 7.2 : undefined,
    });
    const begin = () => visitor.fetch(`${app!.origin}/sign-in/to/quayside`);
    expect([(await begin()).status, (await begin()).status]).toEqual([303, 303]);
    const refused = await begin();
    expect([refused.status, refused.headers.get("retry-after")]).toEqual([429, "8"]);
    expect(await refused.text()).toContain("(server.too-many-requests)");
    expect((await visitor.open(`${app!.origin}/sign-in`)).status).toBe(200);
  });
});

describe("open sign-ins of one browser", () => {
  it("are twenty at the most: the oldest goes, every later one can be finished", async () => {
    await start();
    const begin = (day: number) =>
      visitor.fetch(`${app!.origin}/sign-in/to/quayside?returnTo=/tides?day=${day}`);
    const first = await comeBack();
    const second = await comeBack("?day=2");
    for (let day = 3; day < 22; day += 1) await begin(day);
    expect((await visitor.open(first)).text).toContain("(response.state-altered)");
    await begin(22);
    expect((await visitor.open(second)).text).toContain("(response.state-altered)");
    expect(
      [...(visitor.cookies.get("localhost")?.keys() ?? [])].filter((name) => name.startsWith("tenonsaw")),
    ).toEqual(["tenonsaw-browser"]);
    expect((await visitor.open(await comeBack())).url).toBe(`${app!.origin}/tides`);
  });
});

describe("a problem that mostly comes from one setting", () => {
  it("shows in development on which line of the file that stands", async () => {
    const text = `{
      "origin": "http://localhost:5173",
      "providers": { "quayside": { "issuer": "${practice.issuer}", "clientId": "ferrywell" } },
      "development": true
    }`;
    const { settings } = readSettingsText(text, "tenonsaw.config.json");
    const signIn = await createSignIn({
      ...settings,
      keys: Buffer.alloc(32, 7).toString("base64url"),
      store: createMemoryStore(),
    });
    const headers = { origin: "http://127.0.0.1:5173", "accept-language": "en" };
    const answer = await signIn.handle(
      new Request("http://localhost:5173/sign-in/out", { method: "POST", headers }),
    );
    expect(await answer?.text()).toContain(
      "is &quot;http://localhost:5173&quot;, at tenonsaw.config.json:2:7",
    );
  });
});

import { mkdtemp, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import axe from "axe-core";
import type { Browser, BrowserContext, Page } from "playwright-core";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { defaultClient, startPractice, type Practice } from "tenonsaw-practice";
import {
  registration,
  serveFerrywell,
  type Ferrywell,
} from "../examples/ferrywell/dist/server/serve-ferrywell.js";
import { openBrowser } from "./support/browsers.js";

const executablePath = process.env["CHROMIUM"];

describe.skipIf(executablePath === undefined)("Ferrywell in Chromium", () => {
  let practice: Practice;
  let ferrywell: Ferrywell;
  let browser: Browser;
  let context: BrowserContext;
  let page: Page;
  let folder: string;

  beforeAll(async () => {
    folder = await mkdtemp(join(tmpdir(), "ferrywell-"));
    process.env["FERRYWELL_KEYS"] = Buffer.alloc(32, 3).toString("base64url");
    process.env["QUAYSIDE_SECRET"] = defaultClient.clientSecret;
    practice = await startPractice({ lifetimes: { accessTokenSeconds: 8 } });
    const database = join(folder, "ferrywell.db");
    ferrywell = await serveFerrywell(0, { practice, database });
    practice.register(registration(ferrywell.origin));
    browser = await openBrowser();
  });
  afterAll(async () => {
    await browser.close();
    await ferrywell.stop();
    await practice.stop();
    await rm(folder, { recursive: true });
  });
  beforeEach(async () => {
    context = await browser.newContext();
    page = await context.newPage();
  });
  afterEach(() => context.close());

  const press = (name: string) => page.getByRole("button", { name }).click();
  async function signInAt(path: string, person = "Maren Holt"): Promise<void> {
    await page.goto(ferrywell.origin + path);
    await page.getByRole("link", { name: "Sign in with Quayside ID" }).click();
    await press(person);
    await press("Yes, allow");
  }

  it("signs in, comes back, and shows who it is, since when and what the token allows, never the token", async () => {
    await signInAt("/");
    expect(page.url()).toBe(`${ferrywell.origin}/`);
    await page.getByRole("heading", { name: "Good to see you, Maren Holt" }).waitFor();
    const text = await page.locator("main").innerText();
    expect(text).toContain("maren.holt@ferrywell.example");
    expect(text).toMatch(/Signed in since\s+\d+ \w+ \d{4}/);
    expect(await page.locator(".scopes span").allInnerTexts()).toEqual([
      "openid",
      "profile",
      "email",
      "offline_access",
      "tides.read",
    ]);
    expect(await page.content()).not.toMatch(/eyJ[\w-]+\./);
    // What scripts could steal: nothing.
    expect(await page.evaluate(() => [document.cookie, localStorage.length, sessionStorage.length])).toEqual([
      "",
      0,
      0,
    ]);
    expect(
      await page.locator("img.picture").evaluate((image: HTMLImageElement) => image.naturalWidth > 0),
    ).toBe(true);
  });

  it("reads tides, counts down the token's time, and renews it silently, which the log shows", async () => {
    await signInAt("/tides");
    await page.locator("tbody tr").nth(3).waitFor();
    expect(page.url()).toBe(`${ferrywell.origin}/tides`);
    await page.getByText(/good for \d s more/).waitFor();
    await page.getByText("expired; the next call renews it").waitFor();
    await press("Read again");
    await page.getByText("renewed silently (1 so far)").waitFor();
    await page.getByText(/good for \d s more/).waitFor();
    expect(await page.locator("#log li").count()).toBe(3);
  });

  it("shows nothing private behind the back button after sign-out, and is signed out at Quayside ID as well", async () => {
    await signInAt("/tides");
    await page.locator("tbody tr").first().waitFor();
    await press("Sign out");
    await page.getByRole("link", { name: "Sign in with Quayside ID" }).waitFor();
    expect(page.url()).toBe(`${ferrywell.origin}/`);
    await page.goBack();
    await page.waitForLoadState("networkidle");
    const text = await page.locator("body").innerText();
    expect(text).not.toMatch(/Maren|High water/);
    await page.goto(ferrywell.origin);
    await page.getByRole("link", { name: "Sign in with Quayside ID" }).click();
    await page.getByText("Pick a made-up member").waitFor();
  });

  it("shows nothing private in another tab as soon as somebody signs out in this one", async () => {
    await signInAt("/");
    const other = await context.newPage();
    await other.goto(`${ferrywell.origin}/tides`);
    await other.locator("tbody tr").first().waitFor();
    await page.locator("#who button").click();
    await other.getByRole("link", { name: "Sign in with Quayside ID" }).waitFor();
    expect(await other.locator("body").innerText()).not.toMatch(/Maren|High water/);
    // And the other way round: whoever signs in here is signed in there.
    await signInAt("/");
    await other.getByRole("heading", { name: /Good to see you/ }).waitFor();
  });

  it("notices in a tab that was away, and does not mistake an unreachable server for a sign-out", async () => {
    await signInAt("/tides");
    await page.locator("tbody tr").first().waitFor();
    const showAgain = () => page.evaluate(() => document.dispatchEvent(new Event("visibilitychange")));
    await context.setOffline(true);
    await showAgain();
    await page.waitForTimeout(200);
    expect(await page.locator("tbody tr").count()).toBe(4);
    await context.setOffline(false);
    // Ended where no page of it could tell the others.
    const cookies = await context.cookies();
    await context.clearCookies({ name: "tenonsaw-session" });
    expect(cookies.some(({ name }) => name === "tenonsaw-session")).toBe(true);
    await showAgain();
    await page.getByRole("link", { name: "Sign in with Quayside ID" }).waitFor();
  });

  it("shows what is held and how it was renewed: once, however many asked at once", async () => {
    await signInAt("/history", "Zoë");
    await page.getByRole("heading", { name: "What is held for you" }).waitFor();
    await page.getByText("Nothing yet.").waitFor();
    await page.getByText("expired; the next call renews it").waitFor();
    const askedAt = performance.now();
    await press("Ask for the tides 40 times at once");
    await page.getByText("40 of 40 were answered.").waitFor();
    await page.locator("#history li.refreshed").first().waitFor();
    // A machine that is busy may take longer over it than one token lives, and this one is renewed two seconds before its end.
    const lives = 1 + Math.floor((performance.now() - askedAt) / 6000);
    const renewals = await page.locator("#history li").allInnerTexts();
    expect(renewals.length).toBeLessThanOrEqual(lives);
    for (const each of renewals)
      expect(each).toMatch(
        /process 1: the token of Quayside ID was renewed, and kept before anybody used it/,
      );
    expect(await page.locator("table.held tbody td").last().innerText()).toBe(`${renewals.length}`);
  });

  it("takes somebody who says no to a page that is no error", async () => {
    await page.goto(`${ferrywell.origin}/tides`);
    await page.getByRole("link", { name: "Sign in with Quayside ID" }).click();
    await press("Ib");
    await press("No, not now");
    await page.getByRole("heading", { name: "You are not signed in" }).waitFor();
    expect(new URL(page.url()).pathname).toBe("/changed-your-mind");
    await page.getByRole("link", { name: "Back to Ferrywell" }).click();
    await page.getByText("Sign in with Quayside ID").waitFor();
  });

  it("can be used with the keyboard alone", async () => {
    await page.goto(`${ferrywell.origin}/`);
    await page.getByRole("link", { name: "Sign in with Quayside ID" }).focus();
    await page.keyboard.press("Enter");
    await page.getByText("Pick a made-up member").waitFor();
    await page.keyboard.press("Tab");
    await page.keyboard.press("Tab");
    await page.keyboard.press("Enter");
    await page.getByText("You are signed in as Zoë").waitFor();
    await page.keyboard.press("Tab");
    await page.keyboard.press("Tab");
    await page.keyboard.press("Enter");
    await page.getByRole("heading", { name: /Good to see you, Zoë/ }).waitFor();
  });

  it("signs in in a window of its own, which closes, and the page goes on", async () => {
    await page.goto(ferrywell.origin);
    const opening = context.waitForEvent("page");
    await page.getByRole("link", { name: "sign in in a window of its own" }).click();
    const popUp = await opening;
    await popUp.getByRole("link", { name: "Sign in with Quayside ID" }).click();
    await popUp.getByRole("button", { name: "Maren Holt" }).click();
    const closing = popUp.waitForEvent("close");
    await popUp.getByRole("button", { name: "Yes, allow" }).click();
    await closing;
    await page.getByRole("heading", { name: "Good to see you, Maren Holt" }).waitFor();
  });

  it("signs in in a window whose opener is gone: that window goes on in its place", async () => {
    await page.goto(ferrywell.origin);
    const opening = context.waitForEvent("page");
    await page.getByRole("link", { name: "sign in in a window of its own" }).click();
    const popUp = await opening;
    await popUp.getByRole("link", { name: "Sign in with Quayside ID" }).waitFor();
    await page.close();
    await popUp.getByRole("link", { name: "Sign in with Quayside ID" }).click();
    await popUp.getByRole("button", { name: "Maren Holt" }).click();
    await popUp.getByRole("button", { name: "Yes, allow" }).click();
    await popUp.getByRole("heading", { name: "Good to see you, Maren Holt" }).waitFor();
  });

  async function connect(name: string, company: string): Promise<void> {
    const opening = context.waitForEvent("page");
    await press(name);
    const popUp = await opening;
    await popUp.getByRole("button", { name: "Maren Holt" }).click();
    const closing = popUp.waitForEvent("close");
    await popUp.getByRole("button", { name: company }).click();
    await closing;
    await page.getByRole("heading", { name: company }).waitFor();
  }

  it("connects companies in a window of its own, asks for more, and keeps them when somebody signs out and in", async () => {
    await signInAt("/books");
    await connect("Connect Ledgerhouse", "Ferrywell Rowing Club");
    await connect("Connect another company", "Ferrywell Boat Hire");
    const club = page.locator(".card", { hasText: "Ferrywell Rowing Club" });
    await club.getByRole("button", { name: "Test" }).click();
    await club.getByRole("cell", { name: "120" }).waitFor();
    const opening = context.waitForEvent("page");
    await club.getByRole("button", { name: "Let it write" }).click();
    const popUp = await opening;
    await popUp.getByRole("button", { name: "Maren Holt" }).click();
    await popUp.getByText("Write into the books of a company").waitFor();
    await popUp.getByRole("button", { name: "Ferrywell Rowing Club" }).click();
    await club.getByText("write into the books").waitFor();
    expect(await page.locator(".card").count()).toBe(2);
    await press("Sign out");
    await page.getByRole("link", { name: "Sign in with Quayside ID" }).waitFor();
    await signInAt("/books");
    await page.getByRole("button", { name: "Disconnect Ferrywell Boat Hire" }).click();
    await expect.poll(() => page.locator(".card").count()).toBe(1);
    expect(await page.locator(".card").innerText()).toContain("Ferrywell Rowing Club");

    // From here by the relay alone: an upload, events as they come, and a call that the page gives up.
    const upload = await page.evaluate(async () => {
      const body = new Blob([new Uint8Array(20 * 1024 * 1024)]);
      const answer = await fetch("/sign-in/relay/ledger/api/receipts", { method: "POST", body });
      return (await answer.json()) as object;
    });
    expect(upload).toEqual({ bytes: 20 * 1024 * 1024 });
    const events = await page.evaluate(async () => {
      const leaving = new AbortController();
      const answer = await fetch("/sign-in/relay/tidebook/tides/live", { signal: leaving.signal });
      const reader = answer.body!.pipeThrough(new TextDecoderStream()).getReader();
      const read = [(await reader.read()).value, (await reader.read()).value];
      leaving.abort();
      const end = await reader.read().catch((error: unknown) => (error as Error).name);
      return { read, end, type: answer.headers.get("content-type") };
    });
    expect(events).toMatchObject({ type: "text/event-stream", end: "AbortError" });
    for (const each of events.read) expect(each).toMatch(/^data: \{"at":\d+,"metres":2\.1\}\n\n$/);
    const refused = await page.evaluate(async () => {
      const answer = await fetch("/sign-in/relay/ledger/api/company");
      return [
        answer.status,
        answer.headers.get("content-type"),
        ((await answer.json()) as { code: string }).code,
      ];
    });
    expect(refused).toEqual([403, "application/problem+json", "server.relay-refused"]);
    // By a link it calls nothing.
    const linked = await page.goto(`${ferrywell.origin}/sign-in/relay/tidebook/tides/today`);
    expect(linked?.status()).toBe(403);
  });

  it("adds another way to sign in to the same person, and takes it away again", async () => {
    await signInAt("/");
    await press("Add Harbour Union");
    await press("Maren Holt");
    await press("Yes, allow");
    await page.locator(".ways").first().getByText("Harbour Union").waitFor();
    expect(await page.locator(".ways").first().locator("li").count()).toBe(2);
    await press("Remove Harbour Union");
    await page.getByRole("button", { name: "Add Harbour Union" }).waitFor();
    expect(await page.locator(".ways").first().locator("li").count()).toBe(1);
  });

  it("shows in which browsers somebody is signed in, and signs out another one", async () => {
    await signInAt("/");
    const second = await browser.newContext();
    const there = await second.newPage();
    await there.goto(ferrywell.origin);
    await there.getByRole("link", { name: "Sign in with Quayside ID" }).click();
    await there.getByRole("button", { name: "Maren Holt" }).click();
    await there.getByRole("button", { name: "Yes, allow" }).click();
    await there.getByText("this browser").waitFor();
    await page.reload();
    const others = page.getByRole("button", { name: /^Sign out \w+ on Linux/ });
    await others.first().waitFor();
    const before = await others.count();
    await others.first().click();
    await expect.poll(() => others.count()).toBe(before - 1);
    await there.reload();
    await there.getByRole("link", { name: "Sign in with Quayside ID" }).click();
    await there.getByRole("button", { name: "Yes, allow" }).click();
    await there.getByText("this browser").waitFor();
    await page.reload();
    await press("Sign out everywhere");
    await page.getByRole("link", { name: "Sign in with Quayside ID" }).waitFor();
    await there.reload();
    await there.getByRole("link", { name: "Sign in with Quayside ID" }).waitFor();
    await second.close();
  });

  it.each([
    ["light", "the chooser", "/sign-in", 200],
    ["dark", "the chooser", "/sign-in", 200],
    ["light", "a failure", "/sign-in/nowhere", 404],
    ["dark", "a failure", "/sign-in/nowhere", 404],
    ["light", "Ferrywell's own page", "/", 200],
    ["light", "what happened", "/sign-in/trace", 200],
    ["dark", "what happened", "/sign-in/trace", 200],
  ] as const)("has nothing for axe to find, in %s, on %s", async (colorScheme, _, path, status) => {
    // The policy lets no script in but our own; axe has to get in all the same.
    const looked = await browser.newContext({ bypassCSP: true, colorScheme });
    const sheet = await looked.newPage();
    const answer = await sheet.goto(ferrywell.origin + path);
    expect(answer?.status()).toBe(status);
    await sheet.getByRole("heading").first().waitFor();
    await sheet.addScriptTag({ content: axe.source });
    const { violations } = await sheet.evaluate<{ violations: { id: string; nodes: unknown[] }[] }>(
      "axe.run()",
    );
    await looked.close();
    expect(violations.map(({ id, nodes }) => [id, nodes.length])).toEqual([]);
  });

  it("serves its pages and what they import, and no other file of this machine", async () => {
    const root = fileURLToPath(new URL("..", import.meta.url));
    for (const path of [
      "package.json",
      "examples/ferrywell/package.json",
      "packages/tenonsaw/package.json",
    ]) {
      const answer = await fetch(`${ferrywell.origin}/@fs${root}${path}`);
      expect([path, answer.status, (await answer.text()).includes('"name"')]).toEqual([path, 403, false]);
    }
    expect((await fetch(`${ferrywell.origin}/@fs${folder}/ferrywell.db`)).status).toBe(403);
    expect((await fetch(`${ferrywell.origin}/main.ts`)).status).toBe(200);
  });

  it("runs no markup that a provider's error carries, and its problem page needs no script", async () => {
    const begun = await context.request.get(`${ferrywell.origin}/sign-in/to/quayside`, {
      maxRedirects: 0,
      maxRetries: 3,
    });
    const state = new URL(begun.headers()["location"] ?? "").searchParams.get("state") ?? "";
    const alerts: string[] = [];
    page.on("dialog", (dialog) => {
      alerts.push(dialog.message());
      void dialog.dismiss();
    });
    const markup = "<script>alert(1)</script><img src=x onerror=alert(2)>";
    const query = new URLSearchParams({
      state,
      iss: practice.issuer,
      error: "server_error",
      error_description: markup,
    });
    await page.goto(`${ferrywell.origin}/sign-in/from/quayside?${query}`);
    expect(await page.locator("dl").innerText()).toContain(markup);
    expect([alerts, await page.locator("script, img").count()]).toEqual([[], 0]);
  });
});

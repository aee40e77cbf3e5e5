import { mkdir, mkdtemp, rm, writeFile } from "node:fs/promises";
import { createServer, request as forward } from "node:http";
import type { AddressInfo } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { chromium, type BrowserContext, type FrameLocator, type Locator, type Page } from "playwright-core";
import { afterAll, afterEach, beforeAll, describe, expect, it } from "vitest";
import { axeFindings, isFirefox, launchOptions, openBrowser, pagesIn } from "./support/browsers.js";
import { startPage, type ServedPage } from "./support/start-page.js";

const executablePath = process.env["CHROMIUM"];
const client = { clientId: "rowers-health", clientSecret: "only-for-practice", title: "Rowers' health" };

/** Passes on all but cookies: a browser behind it is one that keeps none. */
async function startForgetful() {
  const server = createServer((request, response) => {
    const { cookie: _kept, ...headers } = request.headers;
    const passed = forward(request.url ?? "", { method: request.method ?? "GET", headers }, (answer) => {
      const { "set-cookie": _set, ...rest } = answer.headers;
      response.writeHead(answer.statusCode ?? 502, rest);
      answer.pipe(response);
    });
    passed.on("error", () => response.destroy());
    request.pipe(passed);
  });
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  return {
    origin: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    stop: () => {
      server.closeAllConnections();
      server.close();
    },
  };
}

describe.skipIf(pagesIn === undefined)("an app in a host's frame", () => {
  it("does what a person asks of it", async () => {
    const app = await startPage("rowers-health", { client, isBuilt: true });
    const browser = await openBrowser();
    try {
      const page = await browser.newPage();
      const frame = page.frameLocator("iframe");
      // In Firefox a click does not reach what is in a frame of another site.
      const press = (button: Locator) => button.dispatchEvent("click");
      await page.goto(app.practice.ward);
      await frame.getByRole("heading", { name: "Tamsin Reed: training", exact: true }).waitFor();
      await page.goto(`${app.practice.ward}?patient=rower-jun&banner=app`);
      await frame.getByText("Jun Oakes, born 1987-11-29").waitFor();
      await press(frame.getByRole("button", { name: "Close this record" }));
      await frame.getByRole("button", { name: "Choose a record at Boathouse Clinic" }).waitFor();
    } finally {
      await browser.close();
      await app.stop();
    }
  });
});

describe.skipIf(isFirefox || executablePath === undefined)("an app in a host's frame, in a browser", () => {
  let app: ServedPage;
  let context: BrowserContext;
  let profile: string;
  let page: Page;
  let forgetful: { readonly origin: string; stop(): void };

  beforeAll(async () => {
    forgetful = await startForgetful();
    app = await startPage("rowers-health", { client });
    const first = await open({});
    await first.goto(app.origin);
    await first.getByRole("button").waitFor();
    await context.close();
  });
  afterAll(async () => {
    forgetful.stop();
    await app.stop();
  });
  afterEach(async () => {
    app.practice.rehearse();
    await context.close();
    await rm(profile, { recursive: true, force: true });
  });

  /** A browser of its own, with settings as a person makes them. */
  async function open(preferences: object, args: readonly string[] = []): Promise<Page> {
    profile = await mkdtemp(join(tmpdir(), "chromium-"));
    await mkdir(join(profile, "Default"));
    await writeFile(join(profile, "Default/Preferences"), JSON.stringify({ profile: preferences }));
    const options = launchOptions(executablePath ?? "");
    context = await chromium.launchPersistentContext(profile, {
      ...options,
      args: [...(options.args ?? []), ...args],
    });
    page = context.pages()[0] ?? (await context.newPage());
    return page;
  }
  const frame = (at = page): FrameLocator => at.frameLocator("iframe");
  const heading = (name: string, at: FrameLocator | Page = frame()) =>
    at.getByRole("heading", { name, exact: true }).waitFor({ timeout: 15_000 });

  it.each([
    ["allowed", { cookie_controls_mode: 0 }, "cookie"],
    ["blocked between sites", { cookie_controls_mode: 1 }, "cookie"],
    ["kept by nobody in a frame", { cookie_controls_mode: 0 }, "frame"],
  ] as const)("works with cookies %s", async (_, preferences, keptBy) => {
    const args =
      keptBy === "frame" ? [`--proxy-server=${forgetful.origin}`, "--proxy-bypass-list=<-loopback>"] : [];
    await open(preferences, args);
    await page.goto(`${app.practice.ward}?patient=rower-jun&banner=app&style=night`);
    await heading("Jun Oakes: training");
    await frame().getByText("Jun Oakes, born 1987-11-29").waitFor();
    await frame().getByRole("img", { name: "Resting pulse: from 64 to 63 beats/minute" }).waitFor();
    const shown = page.frames().find((each) => each.url().includes("launched="))!;
    expect(shown.url().includes("launched=*")).toBe(keptBy === "frame");
    expect(shown.url()).not.toContain("rower-jun");
    // The host's colours, and its banner's absence.
    const background = await frame()
      .locator("body")
      .evaluate((body) => getComputedStyle(body).backgroundColor);
    expect(background).toBe("rgb(30, 38, 41)");
    const kept = (await context.cookies(app.origin)).map(({ name, sameSite, secure }) => ({
      name,
      sameSite,
      secure,
    }));
    expect(kept).toEqual(
      keptBy === "frame" ? [] : [{ name: "tenonsaw-launch", sameSite: "None", secure: true }],
    );
    // Whether a cookie of another site is kept that is not kept apart for this one: what the setting is about.
    const plain = shown.evaluate(() => {
      document.cookie = "plain=1; SameSite=None; Secure";
      return document.cookie;
    });
    if (keptBy === "cookie")
      expect(await plain).toBe(
        "cookie_controls_mode" in preferences && preferences.cookie_controls_mode === 0 ? "plain=1" : "",
      );
    // What a frame keeps is gone with it: another one at the same address, beside it or later, is nobody's.
    if (keptBy === "frame") {
      await page.evaluate((src) => {
        const another = document.createElement("iframe");
        another.id = "another";
        document.body.append(Object.assign(another, { src }));
      }, shown.url());
      const another = page.frameLocator("#another");
      await another.getByText("This record is closed").waitFor();
      expect(await another.getByText("Jun Oakes").count()).toBe(0);
      await page.evaluate(() => document.getElementById("another")?.remove());
    }
    // A reload stays in the same record; the ward opens another one.
    await shown.evaluate(() => location.reload());
    await heading("Jun Oakes: training");
    await page.getByRole("link", { name: "Tamsin Reed" }).click();
    await heading("Tamsin Reed: training");
    await frame().getByRole("button", { name: "Close this record" }).click();
    await frame().getByRole("button", { name: "Choose a record" }).waitFor();
  });

  it("is opened in a window of its own where the frame keeps nothing at all", async () => {
    await open({ default_content_setting_values: { cookies: 2 } });
    await page.goto(app.practice.ward);
    const [opened] = await Promise.all([
      context.waitForEvent("page"),
      frame()
        .getByRole("link", { name: /^Open in a window of its own/ })
        .click(),
    ]);
    // What is blocked everywhere is blocked there, too: the answer says so.
    await opened.getByText("response.cookie-missing").first().waitFor();
  });

  it("keeps two tabs about two patients apart, and says in the one that the other was opened", async () => {
    await open({});
    await page.goto(`${app.practice.ward}?patient=rower-tamsin`);
    await heading("Tamsin Reed: training");
    const other = await context.newPage();
    await other.goto(`${app.practice.ward}?patient=rower-ase`);
    await heading("Åse Nygård-Łęcka: training", frame(other));
    await frame().getByText("The clinic has opened another record since").waitFor();
    await heading("Tamsin Reed: training");
    expect(await frame(other).getByText("has opened another record").count()).toBe(0);
  });

  it("is shown in no frame but the declared hosts'", async () => {
    await open({});
    await context.route("https://elsewhere.example/", (route) =>
      route.fulfill({ contentType: "text/html", body: `<iframe src="${app.origin}/"></iframe>` }),
    );
    await page.goto("https://elsewhere.example/");
    await expect.poll(() => page.frames().at(-1)?.url()).toBe("chrome-error://chromewebdata/");
  });

  it("begins at the app as well, and is read by everybody", async () => {
    await open({});
    await page.goto(app.origin);
    await page.getByRole("button", { name: "Choose a record" }).click();
    for (const choice of [/^Zoë/, /^Åse/, /^Allow/]) await page.getByRole("button", { name: choice }).click();
    await heading("Åse Nygård-Łęcka: training", page);
    await page.getByText("born 2001-07-02").waitFor();
    expect(await axeFindings(page)).toEqual([]);
    await page.goto(app.practice.ward);
    await heading("Tamsin Reed: training");
    expect(await axeFindings(page)).toEqual([]);
  });

  it.each([
    ["launch-value-expired", "The launch value is not valid any more."],
    ["context-patient-number", "is number, and has to be string"],
    ["launch-host-with-slash", "differs by the slash at its end"],
  ])("says in the frame what was wrong: %s", async (name, said) => {
    await open({});
    await page.goto(`${app.practice.ward}?rehearsal=${name}`);
    await frame().getByText(said).first().waitFor();
  });

  it.each([
    ["scope-narrower", "The clinic has not granted: patient/Observation.rs."],
    ["style-hostile", "Tamsin Reed: training"],
    ["context-patient-of-another", "Jun Oakes: training"],
  ])("goes on, and shows it: %s", async (name, said) => {
    await open({});
    await page.goto(`${app.practice.ward}?rehearsal=${name}`);
    await frame().getByText(said).first().waitFor();
  });
});

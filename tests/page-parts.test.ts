import { mkdtemp, readFile, rm } from "node:fs/promises";
import { join } from "node:path";
import { pathToFileURL } from "node:url";
import type { Browser, BrowserContext, Page } from "playwright-core";
import type { SessionNow } from "tenonsaw/browser";
import { build } from "vite";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { axeFindings, dark, openBrowser, pagesIn } from "./support/browsers.js";
import { root } from "./support/processes.js";
import { startPage, type ServedPage } from "./support/start-page.js";

let browser: Browser | undefined;

beforeAll(async () => {
  if (pagesIn !== undefined) browser = await openBrowser();
});
afterAll(async () => browser?.close());

describe.skipIf(pagesIn === undefined)("the elements, in one file of HTML", () => {
  let app: ServedPage;
  beforeAll(async () => {
    app = await startPage("plain-page", { isBuilt: true });
  });
  afterAll(() => app.stop());

  async function signIn(context: BrowserContext, page: Page): Promise<void> {
    await page.goto(app.origin);
    const opening = context.waitForEvent("page");
    await page.getByRole("button", { name: /Quayside ID/ }).click();
    const popUp = await opening;
    await popUp.getByRole("button", { name: "Maren Holt" }).click();
    await popUp.getByRole("button", { name: "Yes, allow" }).click();
    await page.getByRole("heading", { name: "Tides at the landing" }).waitFor();
  }

  it("sign in, connect, disconnect and sign out, by the keyboard alone, under a strict policy with trusted types", async () => {
    const context = await browser!.newContext();
    const page = await context.newPage();
    const said: string[] = [];
    // Firefox tells of an error no more than that it is one.
    await page.addInitScript(() => {
      const { warn } = console;
      console.warn = (...all: unknown[]) => warn(all.map(String).join(" "));
    });
    page.on("console", (message) => said.push(message.text()));
    page.on("pageerror", (error) => said.push(error.message));
    const answer = await page.goto(app.origin);
    expect(answer?.headers()["content-security-policy"]).toContain("require-trusted-types-for 'script'");
    await signIn(context, page);
    await page.getByRole("listitem").filter({ hasText: "high water" }).first().waitFor();
    const connecting = context.waitForEvent("page");
    await page.getByRole("button", { name: "Connect Ledgerhouse" }).focus();
    await page.keyboard.press("Enter");
    const popUp = await connecting;
    await popUp.getByRole("button", { name: "Maren Holt" }).click();
    await popUp.getByRole("button", { name: "Ferrywell Boat Hire" }).click();
    await page.getByText("Ferrywell Boat Hire").waitFor();
    await page.getByRole("button", { name: "Disconnect" }).click();
    await page.getByText("Nothing is connected.").waitFor();
    await page.locator("summary").focus();
    await page.keyboard.press("Enter");
    await page.keyboard.press("Tab");
    await page.keyboard.press("Enter");
    await page.getByRole("heading", { name: "The river today" }).waitFor();
    expect(said.filter((line) => /policy|trusted|error/i.test(line))).toEqual([]);
    await context.close();
  });

  it("say nothing of what was asked for a person who has gone meanwhile", async () => {
    const context = await browser!.newContext();
    const page = await context.newPage();
    const said: string[] = [];
    page.on("console", (message) => said.push(message.text()));
    await signIn(context, page);
    await page.getByText("Nothing is connected.").waitFor();
    let isGone: () => void = () => undefined;
    const gone = new Promise<void>((resolve) => (isGone = resolve));
    const asked = page.waitForRequest("**/sign-in/accounts");
    await page.route("**/sign-in/accounts", async (route) => {
      await gone;
      await route.abort();
    });
    const failed = page.waitForEvent("requestfailed");
    // Shown anew, as after a disconnection.
    await page.evaluate(() =>
      document.querySelector("main")!.append(document.querySelector("tenonsaw-accounts")!),
    );
    await asked;
    const other = await context.newPage();
    await other.goto(app.origin);
    await other.locator("summary").click();
    await other.getByRole("button", { name: "Sign out", exact: true }).click();
    await page.getByRole("heading", { name: "The river today" }).waitFor();
    isGone();
    await failed;
    await page.evaluate(() => new Promise((resolve) => setTimeout(resolve)));
    expect(said.filter((line) => !line.includes("net::"))).toEqual([]);
    await context.close();
  });

  it.each([
    ["light", 1280],
    [dark, 390],
  ] as const)("have nothing for axe to find, in %s, %s pixels wide", async (colorScheme, width) => {
    const viewport = { width, height: 844 };
    const context = await browser!.newContext({ bypassCSP: true, colorScheme, viewport });
    const page = await context.newPage();
    await signIn(context, page);
    await page.getByText("Nothing is connected.").waitFor();
    await page.locator("summary").click();
    expect(await axeFindings(page)).toEqual([]);
    expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(width);
    await context.close();
  });

  it("say that something did not work, and show it once it does", async () => {
    const page = await browser!.newPage();
    let isBusy = true;
    await page.route(`${app.origin}/sign-in`, (route) => (isBusy ? route.abort() : route.continue()));
    await page.goto(app.origin);
    await page.getByText("That did not work").waitFor();
    isBusy = false;
    await page.getByRole("button", { name: "Sign in with Quayside ID" }).waitFor();
    await page.close();
  });

  it("say in the console what is written so that it shows nothing", async () => {
    const page = await browser!.newPage();
    const said: string[] = [];
    page.on("console", (message) => said.push(message.text()));
    await page.route(`${app.origin}/`, async (route) => {
      const answer = await route.fetch();
      const body = (await answer.text())
        .replace('lang="en-GB"', 'lang="en_GB"')
        .replace('who="unknown"', 'who="anybody"')
        .replace("<tenonsaw-person></tenonsaw-person>", "<tenonsaw-persons></tenonsaw-persons>")
        .replace('<tenonsaw-providers in="pop-up">', '<tenonsaw-providers in="popup">');
      await route.fulfill({ response: answer, body });
    });
    await page.goto(app.origin);
    await page.getByRole("button", { name: "Sign in with Quayside ID" }).waitFor();
    for (const odd of ['the language "en_GB"', 'who="anybody"', "<tenonsaw-persons>", 'in="popup"'])
      await expect.poll(() => said.join()).toContain(odd);
    expect(said.filter((line) => line.includes("page.part-unclear"))).toHaveLength(4);
    await page.close();
  });

  it("speak German on a German page", async () => {
    const page = await browser!.newPage();
    await page.route(`${app.origin}/`, async (route) => {
      const answer = await route.fetch();
      await route.fulfill({
        response: answer,
        body: (await answer.text()).replace('lang="en-GB"', 'lang="de"'),
      });
    });
    await page.goto(app.origin);
    await page.getByRole("button", { name: "Anmelden mit Quayside ID" }).waitFor();
    await page.close();
  });
});

/** What is drawn on a server. */
interface Drawn {
  readonly render: (first?: SessionNow) => string;
  readonly renderWith: (session: unknown) => string;
  readonly renderAlone: () => string;
}

describe.skipIf(pagesIn === undefined).each([
  ["18", `${root}tests/react-18/node_modules`],
  ["19", `${root}node_modules`],
])("the parts for React %s", (_, modules) => {
  let folder: string;
  let page: string;
  let drawn: Drawn;
  beforeAll(async () => {
    folder = await mkdtemp(`${root}tests/.react-`);
    const common = {
      configFile: false,
      logLevel: "silent",
      root,
      resolve: { alias: [{ find: /^(react|react-dom)(?=\/|$)/, replacement: `${modules}/$1` }] },
    } as const;
    const entry = `${root}tests/support/react-page.tsx`;
    const rolldownOptions = { input: entry, preserveEntrySignatures: "strict" } as const;
    await build({
      ...common,
      build: {
        outDir: `${folder}/page`,
        rolldownOptions: { ...rolldownOptions, output: { entryFileNames: "page.js" } },
      },
    });
    await build({
      ...common,
      ssr: { noExternal: true },
      build: {
        ssr: true,
        outDir: `${folder}/server`,
        rolldownOptions: { ...rolldownOptions, output: { entryFileNames: "page.mjs" } },
      },
    });
    page = await readFile(`${folder}/page/page.js`, "utf8");
    drawn = (await import(/* @vite-ignore */ pathToFileURL(join(folder, "server/page.mjs")).href)) as Drawn;
  });
  afterAll(() => rm(folder, { recursive: true }));

  it.each([
    ["nothing", undefined, "moment"],
    ["nobody", { signedIn: false }, "Anmelden"],
    [
      "somebody",
      { signedIn: true, tag: "a", person: { name: "Maren Holt" }, endsInSeconds: 60 },
      "Maren Holt",
    ],
  ] as const)(
    "are drawn on a server that knew of %s, and go on in the page without a flash",
    async (name, first, shown) => {
      const html = drawn.render(first);
      expect(html).toContain(shown);
      const tab = await browser!.newPage();
      const said: string[] = [];
      let asked = 0;
      tab.on("console", (message) => {
        if (["warning", "error"].includes(message.type())) said.push(message.text());
      });
      tab.on("pageerror", (error) => said.push(error.message));
      const body = `<!doctype html><title>Page</title><div id="root">${html}</div><script type="module">import { hydrate } from "/page.js"; hydrate(${JSON.stringify(first)})</script>`;
      await tab.route("http://club.example/**", (route) => {
        const { pathname } = new URL(route.request().url());
        if (pathname === "/page.js") return route.fulfill({ contentType: "text/javascript", body: page });
        if (pathname !== "/sign-in/session")
          return route.fulfill({ contentType: "text/html; charset=utf-8", body });
        asked += 1;
        return route.fulfill({ json: { signedIn: false } });
      });
      await tab.goto("http://club.example/");
      if (first === undefined) await tab.getByRole("button", { name: "Anmelden" }).waitFor();
      else {
        await tab.waitForTimeout(200);
        expect(await tab.locator("#root").innerText()).toContain(shown);
        expect(asked).toBe(0);
        // Ended elsewhere.
        await tab.evaluate(() => window.dispatchEvent(new Event("online")));
        await tab.getByRole("button", { name: "Anmelden" }).waitFor();
      }
      expect(name + said.join("\n")).toBe(name);
      await tab.close();
    },
  );

  it("say that what they are about is no session, that there is none above them, and that it is made anew", async () => {
    for (const none of [Promise.resolve(), () => undefined, undefined, null, {}])
      expect(() => drawn.renderWith(none)).toThrow("page.session-unclear");
    expect(drawn.renderAlone).toThrow("a PageSessionScope above this component");
    const tab = await browser!.newPage();
    const said: string[] = [];
    tab.on("console", (message) => said.push(message.text()));
    const body = `<!doctype html><title>Page</title><div id="root"></div><script type="module">import { drawAnew } from "/page.js"; drawAnew()</script>`;
    await tab.route("http://club.example/**", (route) =>
      new URL(route.request().url()).pathname === "/page.js"
        ? route.fulfill({ contentType: "text/javascript", body: page })
        : route.fulfill({ contentType: "text/html", body }),
    );
    await tab.goto("http://club.example/");
    await tab.getByRole("button", { name: "Draw" }).click();
    expect(said.join()).not.toContain("page.session-unclear");
    await tab.getByRole("button", { name: "Draw" }).click();
    await expect.poll(() => said.join()).toContain("one session, made outside of components");
    // What is no prop does nothing, and keeps nobody from signing in.
    expect(said.join()).toContain('"data-testid" of SignInWith');
    await tab.getByRole("button", { name: "Sign in" }).click();
    await tab.waitForURL("**/sign-in/to/quayside?**");
    await tab.close();
  });

  it("leave the page as it is where the server cannot say what they show, and show it once it can", async () => {
    const tab = await browser!.newPage();
    const thrown: string[] = [];
    tab.on("pageerror", (error) => thrown.push(error.message));
    let isBusy = true;
    const body = `<!doctype html><title>Page</title><div id="root"></div><script type="module">import { drawProviders } from "/page.js"; drawProviders()</script>`;
    await tab.route("http://club.example/**", (route) => {
      const { pathname } = new URL(route.request().url());
      if (pathname === "/page.js") return route.fulfill({ contentType: "text/javascript", body: page });
      if (pathname === "/sign-in/session") return route.fulfill({ json: { signedIn: false } });
      if (pathname === "/sign-in")
        return isBusy
          ? route.fulfill({ status: 503, json: { title: "Too busy", status: 503 } })
          : route.fulfill({ json: { providers: [{ name: "quayside", title: "Quayside ID" }] } });
      return route.fulfill({ contentType: "text/html; charset=utf-8", body });
    });
    await tab.goto("http://club.example/");
    await tab.getByText("Das hat nicht geklappt").waitFor();
    expect(await tab.getByRole("heading").innerText()).toBe("The river today");
    isBusy = false;
    await tab.getByRole("button", { name: "Anmelden mit Quayside ID" }).waitFor();
    expect(thrown).toEqual([]);
    await tab.close();
  });
});

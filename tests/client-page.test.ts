import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import type { Browser, BrowserContext, Page } from "playwright-core";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { axeFindings, heldBack, isFirefox, openBrowser, pagesIn } from "./support/browsers.js";
import { startPage, type ServedPage } from "./support/start-page.js";

/** How many tabs call at once, twenty times each; `npm run prove` opens fifty. */
const tabCount = Number(process.env["TABS"] ?? 4);
const client = { clientId: "river-board", title: "River board" };

/** In a page: clears what this origin keeps, or what it keeps by one name. */
async function forget(only: string | null): Promise<void> {
  for (const { name = "" } of await indexedDB.databases())
    await new Promise<void>((resolve) => {
      const opening = indexedDB.open(name);
      opening.onsuccess = () => {
        const transaction = opening.result.transaction("kept", "readwrite");
        const kept = transaction.objectStore("kept");
        if (only === null) kept.clear();
        else kept.delete(only);
        transaction.oncomplete = () => {
          opening.result.close();
          resolve();
        };
      };
    });
}

describe.skipIf(pagesIn === undefined)("a page that is the client", () => {
  let app: ServedPage;
  let browser: Browser;
  let context: BrowserContext;
  let page: Page;
  let said: string[];

  beforeAll(async () => {
    // A worker renews what is over within ten seconds.
    app = await startPage("river-board", { client, isBuilt: true, lifetimes: { accessTokenSeconds: 14 } });
    browser = await openBrowser();
  });
  afterAll(async () => {
    await browser.close();
    await app.stop();
  });
  beforeEach(async () => {
    context = await browser.newContext();
    page = await context.newPage();
    said = [];
    page.on("console", (message) => said.push(message.text()));
  });
  afterEach(async () => {
    await context.unrouteAll({ behavior: "ignoreErrors" });
    await context.close();
  });

  const press = (name: string, at = page) => at.getByRole("button", { name }).click();
  const tides = (at = page) => at.getByRole("heading", { name: "Tides at Ferrywell landing" }).waitFor();
  const isOut = (at = page) => at.getByRole("button", { name: "Sign in with Quayside ID" }).waitFor();
  async function signIn(person = "Maren Holt", address = app.origin): Promise<void> {
    await page.goto(address);
    await press("Sign in with Quayside ID");
    await press(person);
    await press("Yes, allow");
  }
  /** What Quayside ID is asked while something happens. */
  async function askedWhile(work: () => Promise<unknown>): Promise<readonly string[]> {
    const before = app.requests.length;
    await work();
    // Beside what browsers ask before they let a page ask across origins.
    return app.requests
      .slice(before)
      .filter((line) => line.startsWith("quayside") && !line.includes("OPTIONS"));
  }
  const tokenIsOver = () => page.waitForTimeout(5000);

  it("signs in with no secret, reads an API across origins, and comes back to the whole address", async () => {
    const address = `${app.origin}/?from=${"x".repeat(4000)}#there`;
    await signIn("Maren Holt", address);
    await tides();
    await page.getByText("Maren Holt").waitFor();
    expect(page.url()).toBe(address);
    expect(await axeFindings(page)).toEqual([]);
    // It may be gone before it has answered.
    await page.evaluate("history.back()").catch(() => undefined);
    // The page itself is asked: what comes out of a cache is no navigation that Firefox tells of.
    const shownNow = () => page.evaluate(() => location.href).catch(() => address);
    await expect.poll(shownNow).not.toBe(address);
    expect(await shownNow()).not.toContain("code=");
    expect(said.filter((line) => line.includes("Content Security Policy"))).toEqual([]);
  });

  it("knows after a reload without asking, and with a token that is over asks once", async () => {
    await signIn();
    await tides();
    const reload = async () => {
      await page.reload();
      await tides();
    };
    expect(await askedWhile(reload)).toEqual([]);
    await tokenIsOver();
    expect(await askedWhile(reload)).toEqual([expect.stringContaining("POST /token → 200")]);
  });

  it("lets scripts of the page find no token, and sends tokens nowhere but to declared APIs", async () => {
    await signIn();
    await tides();
    const found = await page.evaluate(async () => {
      const kept: unknown[] = [Object.entries(localStorage), Object.entries(sessionStorage), document.cookie];
      for (const { name = "" } of await indexedDB.databases()) {
        const opened = await new Promise<IDBDatabase>((resolve) => {
          const request = indexedDB.open(name);
          request.onsuccess = () => resolve(request.result);
        });
        const values = await new Promise<unknown[]>((resolve) => {
          const request = opened.transaction("kept").objectStore("kept").getAll();
          request.onsuccess = () => resolve(request.result);
        });
        for (const value of values) {
          const { data, handle } = value as { data?: ArrayBuffer; handle?: CryptoKey };
          kept.push(data ? new TextDecoder("latin1").decode(data) : value);
          for (const key of [handle, value])
            if (key instanceof CryptoKey)
              kept.push(
                await crypto.subtle.exportKey(key.type === "secret" ? "raw" : "jwk", key).catch(() => "no"),
              );
        }
      }
      return { text: JSON.stringify(kept), count: kept.length };
    });
    expect(found.count).toBeGreaterThan(6);
    expect(found.text).not.toMatch(/eyJ[\w-]+\.|token/i);
    expect(found.text.match(/"no"/g)).toHaveLength(2);
  });

  it("renews once for tabs that call at the same time", async () => {
    await signIn();
    await tides();
    const tabs = await Promise.all(
      Array.from({ length: tabCount }, async () => {
        const tab = await context.newPage();
        await tab.goto(app.origin);
        await tides(tab);
        return tab;
      }),
    );
    await tokenIsOver();
    const asked = await askedWhile(async () => {
      const answers = await Promise.all(
        tabs.map((tab) =>
          tab.evaluate(async () => {
            const { session } = window as unknown as {
              session: { fetch(api: string, path: string): Promise<Response> };
            };
            const all = Array.from({ length: 20 }, () => session.fetch("tidebook", "/tides/today"));
            return (await Promise.all(all)).map(({ status }) => status);
          }),
        ),
      );
      expect(answers.flat()).toEqual(Array.from({ length: 20 * tabCount }, () => 200));
    });
    expect(asked).toEqual([expect.stringContaining("POST /token → 200")]);
  });

  it("signs out in all tabs at once, leaves nothing behind, and is signed out at the provider", async () => {
    await signIn();
    await tides();
    const other = await context.newPage();
    await other.goto(app.origin);
    await tides(other);
    const letGo = await heldBack(context, "**/revoke");
    await press("Sign out");
    await isOut(other);
    // Whoever signed in here now would be taken away again, to the provider's sign-out.
    expect(await page.getByRole("button").count()).toBe(0);
    const asked = await askedWhile(async () => {
      letGo();
      await isOut();
    });
    expect(asked.join("\n")).toContain("GET /end-session");
    expect(
      await page.evaluate(async () => (await indexedDB.databases()).map(({ name }) => name)),
    ).toHaveLength(1);
    await page.reload();
    await isOut();
    await press("Sign in with Quayside ID");
    await page.getByText("Pick a made-up member").waitFor();
  });

  it("signs in in a window of its own, and says so where it is closed, or blocked", async () => {
    await page.goto(app.origin);
    const opening = context.waitForEvent("page");
    await press("In a window of its own");
    const popUp = await opening;
    const closing = popUp.waitForEvent("close");
    await press("Maren Holt", popUp);
    await press("Yes, allow", popUp);
    await closing;
    await tides();
    await press("Sign out");
    await isOut();
    const again = context.waitForEvent("page");
    await press("In a window of its own");
    await (await again).close();
    await expect.poll(() => page.getByRole("button", { name: "In a window" }).isEnabled()).toBe(true);
    await page.evaluate("window.open = () => null");
    await press("In a window of its own");
    await press("Ib");
    await press("No, not now");
    await page.getByText("You are not signed in. Nothing was shared.").waitFor();
    await expect.poll(() => said.join()).toContain("lets no window open");
  });

  it("takes an answer once, and says what was wrong with one that fits nothing", async () => {
    const answers: string[] = [];
    page.on("request", (request) => request.isNavigationRequest() && answers.push(request.url()));
    await signIn();
    await tides();
    const answer = answers.find((url) => url.includes("code=")) ?? "";
    await page.goto(answer);
    await tides();
    expect(page.url()).toBe(`${app.origin}/`);
    await page.goto(`${app.origin}/?code=planted&state=planted`);
    await expect.poll(() => said.join("\n")).toContain("response.state-altered");
    // Storage cleared on the way.
    await press("Sign out");
    await isOut();
    await press("Sign in with Quayside ID");
    await page.getByText("Pick a made-up member").waitFor();
    const aside = await context.newPage();
    await aside.goto(`${app.origin}/none.css`);
    await aside.evaluate(forget, null);
    await press("Maren Holt");
    await press("Yes, allow");
    await page.getByText("No such sign-in was begun in this browser").waitFor();
    await page.getByText("Start the sign-in again.").waitFor();
  });

  it("says so where the network goes between code and token, and signs in the next time", async () => {
    const away = (url: URL) => url.origin === app.practice.issuer && ["/", "/token"].includes(url.pathname);
    await context.route(away, (route) => route.abort());
    await signIn();
    await page.getByText("platform.unreachable").waitFor();
    await context.unroute(away);
    await press("Sign in with Quayside ID");
    await press("Yes, allow");
    await tides();
  });

  // What a worker sends cannot be sent on by a test in Firefox.
  it.skipIf(isFirefox)("survives an answer that is lost after the provider has rotated", async () => {
    await signIn();
    await tides();
    await tokenIsOver();
    let lost = 0;
    await context.route("**/token", async (route) => {
      lost += 1;
      if (lost > 1) return route.continue();
      await route.fetch();
      await route.abort();
    });
    await page.reload();
    await page.getByText("Tidebook was not read").or(page.getByText("Tides at Ferrywell")).first().waitFor();
    await page.reload();
    await tides();
    expect(lost).toBeGreaterThan(1);
  });

  it("survives a worker that is killed", async () => {
    await page.addInitScript(() => {
      const made: Worker[] = [];
      Object.assign(window, { made });
      const Real = Worker;
      window.Worker = class extends Real {
        constructor(url: string | URL, options?: WorkerOptions) {
          super(url, options);
          made.push(this);
        }
      };
    });
    await signIn();
    await tides();
    await page.evaluate("made[0].terminate()");
    const status = await page.evaluate(async () => {
      const { session } = window as unknown as {
        session: { fetch(api: string, path: string): Promise<Response> };
      };
      return (await session.fetch("tidebook", "/tides/today")).status;
    });
    expect(status).toBe(200);
  });

  it("sends what a call has for a body, in every browser", async () => {
    await signIn();
    await tides();
    const sent: number[] = [];
    await context.route("**/slots/1", async (route) => {
      const request = route.request();
      // Firefox tells no body of a worker's request, and how long it is.
      const length = Number(request.headers()["content-length"]);
      if (request.method() === "POST") sent.push(request.postData()?.length ?? length);
      const headers = {
        "access-control-allow-origin": app.origin,
        "access-control-allow-headers": "authorization, dpop, content-type",
      };
      await route.fulfill({ status: 200, headers, body: "{}" });
    });
    const status = await page.evaluate(async () => {
      const { session } = window as unknown as {
        session: { fetch(api: string, path: string, init: RequestInit): Promise<Response> };
      };
      const body = JSON.stringify({ boat: "Heron" });
      return (await session.fetch("tidebook", "/slots/1", { method: "POST", body })).status;
    });
    expect([status, sent]).toEqual([200, ['{"boat":"Heron"}'.length]]);
  });

  it("asks in a frame where a provider binds no tokens, and no token outlives its tab", async () => {
    await context.route("**/.well-known/openid-configuration", async (route) => {
      const answer = await route.fetch();
      const { dpop_signing_alg_values_supported: _none, ...metadata } = (await answer.json()) as Record<
        string,
        unknown
      >;
      await route.fulfill({ response: answer, json: metadata });
    });
    await signIn();
    await tides();
    const asked = await askedWhile(async () => {
      await page.reload();
      await tides();
    });
    expect(asked.join("\n")).toContain("GET /authorize → 303");
    const other = await context.newPage();
    await other.goto(app.origin);
    await tides(other);
    const letGo = await heldBack(context, "**/revoke");
    await press("Sign out", other);
    await isOut();
    // Whoever signs out is not through yet.
    expect(await other.getByRole("button").count()).toBe(0);
    letGo();
    await isOut(other);
  });

  it.each([
    ["a secret", /clientId:(?=.river-board)/, 'clientSecret:"s3cr3t-of-ours",clientId:', "public client"],
    ["client credentials", /apis:{tidebook:{/, 'apis:{tidebook:{clientScope:"x",', "signIn.fetch"],
    ["an address of another page", "apis:{", 'redirectUri:"https://board.example/",apis:{', "page's origin"],
    ["a provider by a name", "provider:{", "quayside:{", "provider must be one provider"],
  ])("refuses %s in its settings, and says why and what to do", async (_, right, wrong, remedy) => {
    await context.route("**/assets/tokens-*.js", async (route) => {
      const answer = await route.fetch();
      await route.fulfill({ response: answer, body: (await answer.text()).replace(right, wrong) });
    });
    await page.goto(app.origin);
    await page.getByRole("heading", { name: "This page is not set up" }).waitFor();
    const text = await page.locator("main").innerText();
    expect(text).toContain(remedy);
    expect(text).not.toContain("s3cr3t");
  });

  it.each([
    ["no script at its address", { contentType: "text/html", body: "<h1>River board</h1>" }, "has no script"],
    ["a script that fails", { contentType: "text/javascript", body: "null.x" }, "fails page.worker-silent"],
  ])("says what is wrong with the worker: %s", async (_, answer, said) => {
    await context.route("**/assets/tokens-*.js", (route) => route.fulfill(answer));
    await page.goto(app.origin);
    await page.getByText(said).waitFor();
  });

  it.each(["page-line", "settle-outcome"])(
    "says that a part of it is not there any more, as after a deployment: %s",
    async (part) => {
      await context.route(`**/assets/${part}-*.js`, (route) => route.fulfill({ status: 404 }));
      await page.goto(app.origin);
      await press("Sign in with Quayside ID");
      if (part === "settle-outcome") {
        await press("Maren Holt");
        await press("Yes, allow");
      }
      await page.getByText("Reload the page. Where this comes after a deployment").waitFor();
      await page.getByText("platform.part-not-loaded").waitFor();
    },
  );

  it("waits for a worker whose script is slow to come", async () => {
    await context.route("**/assets/tokens-*.js", async (route) => {
      await page.waitForTimeout(9000);
      await route.continue();
    });
    await page.goto(app.origin);
    await isOut();
    await expect.poll(() => said.join()).toContain("has not said anything yet");
  });

  it("says what its worker fails with, which is none of the problems that are known", async () => {
    await context.addInitScript(() => {
      type Post = (this: Worker, message: { call?: { do: string } }) => void;
      const post = Reflect.get(Worker.prototype, "postMessage") as Post;
      Worker.prototype.postMessage = function (this: Worker, message: Parameters<Post>[0]) {
        // What no page asks for.
        if (message.call?.do === "begin") Object.assign(message.call, { wish: null });
        post.call(this, message);
      };
    });
    await page.goto(app.origin);
    await press("Sign in with Quayside ID");
    await page.getByText("page.worker-failed").waitFor();
    await expect.poll(() => said.join()).toContain("Error");
  });

  it("takes an answer that something else took out of the address, once, and says so; and what comes without a state", async () => {
    await context.addInitScript(() => {
      if (location.search.includes("code=")) history.replaceState(null, "", "/welcome");
    });
    await signIn();
    await tides();
    expect(page.url()).toBe(`${app.origin}/welcome`);
    await expect.poll(() => said.join()).toContain("page.answer-removed");
    await page.goto(`${app.origin}/?error=invalid_scope&error_description=no%20such%20scope`);
    await tides();
    await expect
      .poll(() => said.join())
      .toMatch(/response.state-missing[^]+"invalid_scope": "no such scope"/);
  });

  // Firefox does not tell a worker.
  it.skipIf(isFirefox)("says that the policy of its worker keeps it from the provider", async () => {
    await context.route("**/assets/tokens-*.js", async (route) => {
      const response = await route.fetch();
      const headers = { ...response.headers(), "content-security-policy": "connect-src 'self'" };
      await route.fulfill({ response, headers });
    });
    await page.goto(app.origin);
    await press("Sign in with Quayside ID");
    await page.getByText(`Expected ${app.practice.issuer} in connect-src`).waitFor();
    await page.getByText("page.policy-refused").waitFor();
  });

  it("says that it is open at an address that is not secure, where browsers have no Web Crypto", async () => {
    await page.addInitScript(() => void Object.defineProperty(window, "isSecureContext", { value: false }));
    await page.goto(app.origin);
    await page.getByText("page.insecure-origin").waitFor();
    await page.getByText(`Received ${app.origin}`).waitFor();
  });

  it("says in a frame of another site that it cannot sign anybody in there", async () => {
    const frame = `<iframe src="${app.origin}" width="900" height="500"></iframe>`;
    const club = createServer((_, answer) => answer.setHeader("content-type", "text/html").end(frame));
    await new Promise<void>((resolve) => club.listen(0, "127.0.0.1", resolve));
    // Its policy would not even let it be shown there.
    await context.route(`${app.origin}/`, async (route) => {
      const answer = await route.fetch();
      const { "content-security-policy": _policy, ...headers } = answer.headers();
      await route.fulfill({ response: answer, headers });
    });
    await page.goto(`http://127.0.0.1:${(club.address() as AddressInfo).port}/`);
    const shown = page.frameLocator("iframe");
    await shown.getByRole("button", { name: "Sign in with Quayside ID" }).dispatchEvent("click");
    await shown.getByText("page.in-foreign-frame").waitFor();
    club.closeAllConnections();
    club.close();
  });
});

describe.skipIf(pagesIn === undefined)("a page of another site than its provider", () => {
  it("is asked for in this window where a frame gets no cookies; and is told of an API that does not let it read", async () => {
    const app = await startPage("river-board", { client, host: "127.0.0.1", pages: [] });
    const browser = await openBrowser();
    try {
      const page = await browser.newPage();
      await page.goto(app.origin);
      await page.getByRole("button", { name: "Sign in with Quayside ID" }).click();
      await page.getByRole("button", { name: "Maren Holt" }).click();
      await page.getByRole("button", { name: "Yes, allow" }).click();
      await page.getByRole("heading", { name: "Tidebook was not read" }).waitFor();
      const text = await page.locator("main").innerText();
      expect(text).toContain("page.cors-refused");
      expect(text).toContain(`Access-Control-Allow-Origin: ${app.origin}`);
      expect(text).toContain("pageOrigins");
      // What is kept is gone, but that somebody was here.
      await page.evaluate(forget, "held");
      const seen: string[] = [];
      page.on(
        "request",
        (request) => request.isNavigationRequest() && seen.push(new URL(request.url()).pathname),
      );
      await page.reload();
      await page.getByRole("heading", { name: "Tidebook was not read" }).waitFor();
      // In the frame, and then in the window.
      expect(seen.filter((path) => path === "/authorize")).toHaveLength(2);
      await page.getByText("Maren Holt").waitFor();
    } finally {
      await browser.close();
      await app.stop();
    }
  });
});

import type { Browser } from "playwright-core";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createSignIn } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { defaultClient, startPractice, type Practice } from "tenonsaw-practice";
import { openBrowser } from "./support/browsers.js";
import { listenFor } from "./support/listen.js";

const executablePath = process.env["CHROMIUM"];

describe.skipIf(executablePath === undefined)("the provider's answer, in Chromium", () => {
  let practice: Practice;
  let browser: Browser;
  beforeAll(async () => {
    practice = await startPractice({ algorithm: "ES256" });
    browser = await openBrowser();
  });
  afterAll(async () => {
    await browser.close();
    await practice.stop();
  });

  it.each([
    { responseType: "code", responseMode: "query" },
    { responseType: "code", responseMode: "query.jwt" },
    { responseType: "code", responseMode: "form_post" },
    { responseType: "code", responseMode: "form_post.jwt" },
    { responseType: "code", responseMode: "fragment" },
    { responseType: "code id_token", responseMode: "form_post" },
    { responseType: "code id_token token", responseMode: "fragment" },
    { responseType: "id_token", responseMode: "fragment.jwt" },
  ] as const)(
    "comes from another site as $responseType by $responseMode, past today's cookie rules",
    async (settings) => {
      // The provider is at localhost and the app at 127.0.0.1: two sites.
      let origin = "";
      const app = await listenFor(async (listening) => {
        origin = listening.replace("localhost", "127.0.0.1");
        const signIn = await createSignIn({
          origin,
          keys: Buffer.alloc(32, 4).toString("base64url"),
          store: createMemoryStore(),
          providers: {
            quayside: {
              issuer: practice.issuer,
              clientId: "ferrywell",
              clientSecret: defaultClient.clientSecret ?? "",
              scope: "openid profile",
              ...settings,
            },
          },
          development: true,
        });
        return {
          signIn,
          app: async (request) =>
            // An ID token alone opens no connection.
            Response.json({
              name: (await signIn.session(request))?.person.name ?? "nobody",
              isConnected: (await (await signIn.session(request))?.connection()) !== undefined,
            }),
        };
      });
      practice.register({ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] });
      const context = await browser.newContext();
      const page = await context.newPage();
      const addresses: string[] = [];
      page.on("framenavigated", (frame) => addresses.push(frame.url()));
      await page.goto(`${origin}/sign-in/to/quayside`);
      await page.getByRole("button", { name: "Maren Holt" }).click();
      await page.getByRole("button", { name: "Yes, allow" }).click();
      await page.getByText('"name":"Maren Holt"').waitFor();
      const isConnected = settings.responseType !== "id_token";
      await page.getByText(`"isConnected":${isConnected}`).waitFor();
      expect(page.url()).toBe(`${origin}/`);
      // No ID token or access token in the address of any page that stayed.
      if (settings.responseMode.startsWith("form_post")) expect(addresses.join()).not.toMatch(/eyJ[\w-]+\./);
      await context.close();
      await app.stop();
    },
  );
});

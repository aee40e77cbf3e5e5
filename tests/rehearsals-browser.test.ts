import { mkdtemp, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Browser, Page } from "playwright-core";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { defaultClient, rehearsals, startPractice, type Practice, type Rehearsal } from "tenonsaw-practice";
import {
  registration,
  serveFerrywell,
  type Ferrywell,
} from "../examples/ferrywell/dist/server/serve-ferrywell.js";
import { openBrowser } from "./support/browsers.js";
import { startApp, type App } from "./support/start-app.js";
import { newKeyPair } from "../scripts/key-pair.mjs";

const executablePath = process.env["CHROMIUM"];
// What a host does wrong shows where it opens an app: tests/launch-browser.test.ts.
const all: readonly Rehearsal[] = rehearsals.filter((each: Rehearsal) => each.asks !== "launch");
const rsa = newKeyPair("rsa", { modulusLength: 2048 });
const named = { kid: "for-tokens", alg: "RSA-OAEP-256", use: "enc" };

/** Faults before the sign-in page are played for everybody; an app notices them when it first asks. */
const isPublished = (name: string) => /^(metadata|key-set|temporary|push)-/.test(name);
/** What Ferrywell's settings do not ask for shows in an app whose settings do. */
const isAskedElsewhere = ({ asks }: Rehearsal) =>
  asks !== undefined && ["hybrid", "signed", "bound", "encrypted", "pushed"].includes(asks);

const wishes: Partial<Record<NonNullable<Rehearsal["asks"]>, string>> = {
  recent: "&maxAge=300",
  class: "&acrValues=urn:quayside:two-factor",
};

/** A server ends a connection that was not used for five seconds: what is sent over it just then is sent again. */
const again = { maxRetries: 3 };

/**
 * Signs in as Maren, the fault chosen. The provider's own pages are answered for the browser, with its cookies: how they
 * are used by hand is tried elsewhere, and this is done two hundred times. The way back is the browser's.
 */
async function play(page: Page, origin: string, { name, asks }: Rehearsal, provider?: string): Promise<void> {
  const at = provider ?? (asks === "oauth1" ? "archive" : "quayside");
  const { request } = page.context();
  await page.context().clearCookies();
  const begin = `${origin}/sign-in/to/${at}?returnTo=/${wishes[asks ?? "oauth1"] ?? ""}`;
  const shown = await request.get(begin, { ...again, headers: { accept: "text/html" } });
  const [, field] = /name="request" value="([^"]+)"/.exec(await shown.text()) ?? [];
  if (field === undefined) {
    await page.goto(begin);
    return;
  }
  const there = new URL(shown.url()).origin;
  const fault = isPublished(name) ? "" : name;
  await request.post(`${there}/authorize/person`, {
    ...again,
    form: { request: field, person: "maren", rehearsal: fault },
  });
  const decided = await request.post(`${there}/authorize/decision`, {
    ...again,
    form: { request: field, decision: "allow" },
    maxRedirects: 0,
  });
  await page.goto(decided.headers()["location"] ?? "", { waitUntil: "domcontentloaded" });
}

/** What is on the page, and whether that is what this fault should end in. */
async function judge(page: Page, { ending }: Rehearsal, isDevelopment: boolean): Promise<string | undefined> {
  if (ending === "signed in") {
    const body = page.locator("body");
    await body
      .getByText(/Good to see you|"person":\{/)
      .first()
      .waitFor();
    return undefined;
  }
  const heading = await page.getByRole("heading").first().innerText();
  if (ending === "declined") return heading === "You are not signed in" ? undefined : heading;
  const text = await page.locator("main").innerText();
  if (heading !== "That did not work") return text;
  if (!text.includes(`(${ending})`) || !text.includes("You can try again.")) return text;
  const details = await page.locator("dl dt").allInnerTexts();
  if (!isDevelopment) return details.length === 0 ? undefined : text;
  const isOfUse = ["What happened", "Expected"].every((each) => details.includes(each));
  return isOfUse && details.some((each) => each.startsWith("Change")) ? undefined : text;
}

describe.skipIf(executablePath === undefined)("every rehearsal, played in Chromium", () => {
  let practice: Practice;
  let browser: Browser;
  let folder: string;
  const opened: Ferrywell[] = [];

  beforeAll(async () => {
    folder = await mkdtemp(join(tmpdir(), "ferrywell-"));
    process.env["FERRYWELL_KEYS"] = Buffer.alloc(32, 3).toString("base64url");
    process.env["QUAYSIDE_SECRET"] = defaultClient.clientSecret;
    practice = await startPractice({ algorithm: "ES256" });
    browser = await openBrowser();
  });
  afterAll(async () => {
    await browser.close();
    for (const each of opened) await each.stop();
    await practice.stop();
    await rm(folder, { recursive: true });
  });

  const stationOf = (ending: string) => ending.split(".")[0];

  /** Several browsers at once: most of the time is waiting. */
  async function playAll(
    list: readonly Rehearsal[],
    one: (page: Page, rehearsal: Rehearsal) => Promise<string | undefined>,
  ): Promise<void> {
    const waiting = [...list];
    const wrong: string[] = [];
    const work = async () => {
      // Small, because drawing is most of the work.
      const context = await browser.newContext({ viewport: { width: 320, height: 240 } });
      const page = await context.newPage();
      for (let next = waiting.shift(); next; next = waiting.shift()) {
        const found = await one(page, next).catch(String);
        if (found !== undefined) wrong.push(`${next.name}: ${found}`);
      }
      await context.close();
    };
    await Promise.all([work(), work(), work()]);
    expect(wrong).toEqual([]);
  }

  it.each([
    ["tells a developer what happened and what to change", true],
    ["tells a visitor that it did not work and may be tried again, and no more", false],
  ])("at Ferrywell %s", async (_, development) => {
    const database = join(folder, `${development}.db`);
    const ferrywell = await serveFerrywell(0, { practice, database, development });
    opened.push(ferrywell);
    // Two origins, one client: each registration replaces the one before.
    practice.register(registration(ferrywell.origin));
    // A key set is asked for again every five seconds at the most: the rotation goes before what asks in vain.
    const own = all
      .filter((each) => !isPublished(each.name) && !isAskedElsewhere(each))
      // A visitor sees the same of all of them: one fault for each station that refuses will do.
      .filter(
        (each, index, list) =>
          development ||
          list.findIndex(({ ending }) => stationOf(ending) === stationOf(each.ending)) === index,
      )
      .sort((left, right) => Number(right.name === "key-rotated") - Number(left.name === "key-rotated"));
    expect(own.length).toBeGreaterThan(development ? 90 : 5);
    await playAll(own, async (page, rehearsal) => {
      await play(page, ferrywell.origin, rehearsal);
      return judge(page, rehearsal, development);
    });
  });

  it("at apps that ask for what Ferrywell does not, and in what is published", async () => {
    const { clientSecret = "" } = defaultClient;
    const quayside = { issuer: practice.issuer, clientId: "ferrywell", clientSecret };
    const archive = {
      protocol: "oauth1" as const,
      issuer: practice.archive,
      clientId: "ferrywell",
      clientSecret,
      temporaryCredentialsEndpoint: `${practice.archive}/initiate`,
      authorizationEndpoint: `${practice.archive}/authorize`,
      tokenEndpoint: `${practice.archive}/token`,
      profile: { subject: "/user" },
    };
    const providers = {
      quayside,
      hybrid: { ...quayside, responseType: "code id_token" as const },
      signed: { ...quayside, responseMode: "query.jwt" as const },
      bound: { ...quayside, dpopBoundAccessTokens: true },
      pushed: { ...quayside, requirePushedAuthorizationRequests: true },
      encrypted: {
        ...quayside,
        clientId: "decrypting",
        clientAuthentication: "client_secret_basic" as const,
        clientKeys: JSON.stringify({ ...rsa.privateKey.export({ format: "jwk" }), ...named }),
        idTokenEncryptedResponseAlg: "RSA-OAEP-256" as const,
        userinfoSignedResponseAlg: "ES256" as const,
        userinfoEncryptedResponseAlg: "RSA-OAEP-256" as const,
      },
      archive,
    };
    const page = await (await browser.newContext()).newPage();
    const wrong: string[] = [];
    for (const rehearsal of all.filter((each) => isPublished(each.name) || isAskedElsewhere(each))) {
      const app: App = await startApp(practice, { providers, apis: {} });
      const redirectUris = Object.keys(providers).map((name) => `${app.origin}/sign-in/from/${name}`);
      practice.register({ ...defaultClient, redirectUris });
      const encryptionKey = { ...rsa.publicKey.export({ format: "jwk" }), ...named } as never;
      practice.register({ ...defaultClient, clientId: "decrypting", redirectUris, encryptionKey });
      const { asks, name } = rehearsal;
      if (isPublished(name)) practice.rehearse(name as never);
      await play(page, app.origin, rehearsal, isAskedElsewhere(rehearsal) ? asks : undefined);
      const found = await judge(page, rehearsal, true).catch(String);
      if (found !== undefined) wrong.push(`${name}: ${found}`);
      practice.rehearse();
      await app.stop();
    }
    expect(wrong).toEqual([]);
  });
});

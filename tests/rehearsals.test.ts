import { afterAll, beforeAll, describe, expect, it } from "vitest";
import {
  createVisitor,
  rehearsals,
  startPractice,
  type Practice,
  type RehearsalName,
} from "tenonsaw-practice";
import { startApp, type App } from "./support/start-app.js";

/** What a sound app makes of each fault: the problem its developer is told, or a sign-in that works all the same. */
const endings: Readonly<Record<RehearsalName, string>> = {
  "nonce-wrong": "identity.nonce-mismatch",
  "audience-wrong": "identity.audience-mismatch",
  "id-token-expired": "identity.expired",
  "key-rotated": "signed in",
  "token-endpoint-slow": "platform.too-slow",
  "token-endpoint-500": "grant.unavailable",
};

let practice: Practice;
let app: App;
beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
  app = await startApp(practice, { timeoutSeconds: 2 });
});
afterAll(async () => {
  await app.stop();
  await practice.stop();
});

/** A sign-in by a person; `fault` is chosen on the provider's page. */
async function signIn(fault = ""): Promise<string> {
  app.aheadSeconds += 2; // key sets are asked for again every five seconds at the most
  const visitor = createVisitor();
  const page = await visitor.open(`${app.origin}/sign-in/to/quayside`);
  const request = /name="request" value="([^"]+)"/.exec(page.text)?.[1] ?? "";
  await visitor.post(`${practice.issuer}/authorize/person`, { request, person: "maren", rehearsal: fault });
  const { text } = await visitor.press("Yes, allow");
  return text.includes('"person"') ? "signed in" : (/\(([a-z.-]+)\)/.exec(text)?.[1] ?? text);
}

describe.each(rehearsals)("the rehearsal $name", ({ name }) => {
  it("ends as it should for everybody while it is played, and not after that", async () => {
    expect(await signIn()).toBe("signed in");
    practice.rehearse(name);
    expect(await signIn()).toBe(endings[name]);
    practice.rehearse();
    expect(await signIn()).toBe("signed in");
  });

  it("can be chosen on the sign-in page, for this sign-in alone", async () => {
    expect(await signIn()).toBe("signed in");
    expect(await signIn(name)).toBe(endings[name]);
    expect(await signIn()).toBe("signed in");
  });
});

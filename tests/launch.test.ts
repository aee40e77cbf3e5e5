import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { createVisitor, rehearsals, startPractice, type Practice, type Visitor } from "tenonsaw-practice";
import type { SessionNow, SignInSettings } from "tenonsaw/server";
import { startApp, type App } from "./support/start-app.js";

let practice: Practice;
let app: App;
let visitor: Visitor;
const framed = { "sec-fetch-dest": "iframe" };

beforeAll(async () => {
  practice = await startPractice();
});
afterAll(() => practice.stop());
beforeEach(async () => {
  visitor = createVisitor();
  app = await startClinicApp();
});
afterEach(async () => {
  practice.rehearse();
  await app.stop();
});

/** An app that the clinic opens. */
async function startClinicApp(
  boathouse: object = {},
  settings: Partial<SignInSettings> = {},
  client: object = {},
): Promise<App> {
  const opened = await startApp(practice, {
    providers: {
      boathouse: {
        title: "Boathouse Clinic",
        issuer: practice.clinic,
        discovery: "smart",
        clientId: "rowers-health",
        clientSecret: "only-for-practice",
        scope: "openid fhirUser launch/patient patient/Patient.r patient/Observation.rs offline_access",
        ...boathouse,
      } as never,
    },
    apis: { record: { provider: "boathouse", relay: ["/**"] } },
    ...settings,
  });
  practice.register({
    clientId: "rowers-health",
    clientSecret: "only-for-practice",
    title: "Rowers' health",
    redirectUris: [`${opened.origin}/sign-in/from/boathouse`],
    postLogoutRedirectUris: [],
    launchUrl: `${opened.origin}/sign-in/launch`,
    ...client,
  });
  return opened;
}

/** What the ward opens the app with. */
async function opening(more = "", ward = practice.ward): Promise<string> {
  const answer = await fetch(`${ward}/openings?app=rowers-health${more}`, { method: "POST" });
  return ((await answer.json()) as { readonly url: string }).url;
}
const handleOf = (url = visitor.page?.url ?? "") => new URL(url).searchParams.get("launched") ?? "";
const now = async (launched = handleOf()) =>
  (await (await visitor.fetch(`${app.origin}/sign-in/session?launched=${launched}`)).json()) as SessionNow;
const codeOf = (text = visitor.page?.text ?? "") => /\(([a-z0-9]+\.[a-z-]+)\)/.exec(text)?.[1] ?? text.slice(0, 300);

describe("an app that a host opens", () => {
  it("is in the host's context, and reads what it was opened for", async () => {
    await visitor.open(await opening("&patient=rower-ase&banner=app"));
    expect(visitor.page?.url).toMatch(/\?launched=[\w-]{22}$/);
    const { launch, person } = await now();
    expect(person?.name).toBe("Maren Holt");
    expect(launch).toMatchObject({
      host: "boathouse",
      title: "Boathouse Clinic",
      base: practice.clinic,
      patient: "rower-ase",
      encounter: "visit-203",
      needPatientBanner: true,
      intent: "review-training",
      tenant: "riverside",
      user: `${practice.clinic}/Practitioner/maren`,
      notGranted: [],
    });
    expect(launch?.style?.["color_background"]).toBe("#f4f7f6");
  });

  it.each(
    rehearsals.filter(({ name }) => (rehearsals.find((each) => each.name === name) as { asks?: string }).asks === "launch"),
  )("rehearses $name: $ending", async ({ name, ending }) => {
    practice.rehearse(name);
    await visitor.open(await opening());
    const found = visitor.page?.url.includes("launched=") === true ? "signed in" : codeOf();
    expect(found).toBe(ending);
  });
});

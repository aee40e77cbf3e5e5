import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it, vi } from "vitest";
import {
  createVisitor,
  rehearsals,
  type Rehearsal,
  startPractice,
  type Practice,
  type Visitor,
} from "tenonsaw-practice";
import type { SessionNow, SignInSettings } from "tenonsaw/server";
import { startApp, type App } from "./support/start-app.js";
import { newKeyPair } from "../scripts/key-pair.mjs";

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
        launch: { frameAncestors: [new URL(practice.ward).origin] },
        scope: "openid fhirUser launch/patient patient/Patient.r patient/Observation.rs offline_access",
        ...boathouse,
      } as never,
      quayside: { issuer: practice.issuer, clientId: "ferrywell", clientSecret: "only-for-practice" },
    },
    apis: { record: { provider: "boathouse", relay: ["/**"] } },
    ...settings,
  });
  practice.register({
    clientId: "rowers-health",
    clientSecret: "only-for-practice",
    title: "Rowers' health",
    redirectUris: ["boathouse", "boathouse.mill-lane"].map((each) => `${opened.origin}/sign-in/from/${each}`),
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
const codeOf = (text = visitor.page?.text ?? "") =>
  /\(([a-z0-9]+\.[a-z-]+)\)/.exec(text)?.[1] ?? text.slice(0, 300);

interface Bundle {
  readonly link: readonly { readonly relation: string; readonly url: string }[];
  readonly entry: readonly unknown[];
}

describe("an app that a host opens", () => {
  it("is in the host's context, and reads what it was opened for", async () => {
    await visitor.open(await opening("&patient=rower-ase&banner=app"));
    expect(visitor.page?.url).toMatch(/\?launched=[\w-]{22}$/);
    const asked = visitor.page!.trail.find((url) =>
      url.startsWith(practice.clinic.replace("/fhir", "/authorize")),
    )!;
    expect(Object.fromEntries(new URL(asked).searchParams)).toEqual({
      response_type: "code",
      client_id: "rowers-health",
      redirect_uri: `${app.origin}/sign-in/from/boathouse`,
      scope: "launch openid fhirUser patient/Patient.r patient/Observation.rs offline_access",
      state: expect.stringMatching(/^[\w-]{43}$/) as string,
      nonce: expect.any(String) as string,
      code_challenge: expect.stringMatching(/^[\w-]{43}$/) as string,
      code_challenge_method: "S256",
      aud: practice.clinic,
      launch: expect.any(String) as string,
    });
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

  it("keeps two launches in one browser apart, and a sign-out ends one of them", async () => {
    const first = handleOf((await visitor.open(await opening("&patient=rower-tamsin"))).url);
    const second = handleOf((await visitor.open(await opening("&patient=rower-jun"))).url);
    expect([(await now(first)).launch?.patient, (await now(second)).launch?.patient]).toEqual([
      "rower-tamsin",
      "rower-jun",
    ]);
    await visitor.post(`${app.origin}/sign-in/out?launched=${first}`, {});
    expect(await now(first)).toEqual({ signedIn: false });
    expect((await now(second)).launch?.patient).toBe("rower-jun");
    // Without its name nobody is anybody, and a name without this browser's cookie opens nothing.
    expect(await now("")).toEqual({ signedIn: false });
    expect(await (await visitor.fetch(`${app.origin}/sign-in/session`)).json()).toEqual({ signedIn: false });
    const stranger = await fetch(`${app.origin}/sign-in/session?launched=${second}`);
    expect(await stranger.json()).toEqual({ signedIn: false });
  });

  it("stands beside a sign-in of the same browser, and neither ends the other", async () => {
    await app.stop();
    app = await startClinicApp({}, {});
    const launched = handleOf((await visitor.open(await opening())).url);
    const request = (url: string) => {
      const cookie = [...(visitor.cookies.get("localhost") ?? [])].map(([name, value]) => `${name}=${value}`);
      return new Request(url, { headers: { cookie: cookie.join("; ") } });
    };
    const session = await app.signIn.session(request(`${app.origin}/?launched=${launched}`));
    expect(await session?.launch()).toMatchObject({ patient: "rower-tamsin" });
    expect(session?.kind).toBe("launch");
    // The cookie of launches is no session by itself, nor by another's name.
    expect(await app.signIn.session(request(app.origin))).toBeUndefined();
    expect(await app.signIn.session(request(`${app.origin}/?launched=${"a".repeat(22)}`))).toBeUndefined();
    expect(
      await app.signIn.session(request(`${app.origin}/?launched=${launched}.${"b".repeat(43)}`)),
    ).toBeUndefined();
  });

  it("reads below the host's base and nowhere else, page by page", async () => {
    const { url } = await visitor.open(await opening("&patient=rower-jun"));
    const cookie = [...(visitor.cookies.get("localhost") ?? [])]
      .map(([name, value]) => `${name}=${value}`)
      .join("; ");
    const session = await app.signIn.session(new Request(url, { headers: { cookie } }));
    const read = async (path: string) => (await session!.fetch("record", path)).json() as Promise<Bundle>;
    const first = await read("/Observation?patient=rower-jun&category=vital-signs");
    const next = first.link.find(({ relation }) => relation === "next")!.url;
    expect([first.entry.length, (await read(next)).entry.length]).toEqual([10, 2]);
    expect((await session!.fetch("record", "/Patient/rower-ase")).status).toBe(403);
    for (const path of [
      "/../id",
      "/%2e%2e/id",
      "/x%2f..%2f..%2fid",
      "/..;/id",
      "/%252e%252e/id",
      next.replace("/riverside/", "/mill-lane/"),
      next.replace("127.0.0.1", "localhost"),
      "https://records.elsewhere.example/fhir/Patient/1",
    ])
      await expect(session!.fetch("record", path), path).rejects.toMatchObject({
        problem: { code: "connection.other-origin" },
      });
    // A page calls through the relay and names its launch.
    const relayed = (headers: Record<string, string>) =>
      visitor.fetch(`${app.origin}/sign-in/relay/record/Patient/rower-jun`, {
        headers: { "tenonsaw-relay": "1", "sec-fetch-site": "same-origin", ...headers },
      });
    expect((await relayed({ "tenonsaw-launch": handleOf(url) })).status).toBe(200);
    expect((await relayed({})).status).toBe(401);
  });

  it("is asked for by the host's own value, once: a second opening by the same one is refused, and so is what is none", async () => {
    const url = await opening();
    await visitor.open(url);
    await visitor.open(url);
    expect(codeOf()).toBe("launch.value-used");
    await visitor.open(`${url}${"x".repeat(3000)}`);
    expect(codeOf()).toBe("launch.parameters-refused");
    await visitor.open(
      `${app.origin}/sign-in/launch?iss=${encodeURIComponent(practice.clinic)}&launch=made-up`,
    );
    expect(codeOf()).toBe("response.provider-error");
    expect(visitor.page?.text).toContain("The launch value is not known here.");
    expect(JSON.stringify(app.events)).not.toContain(new URL(url).searchParams.get("launch"));
  });

  it("keeps whose record it is out of addresses, traces and the store", async () => {
    await visitor.open(await opening("&patient=rower-jun"));
    const headers = { "tenonsaw-launch": handleOf(), "tenonsaw-relay": "1", "sec-fetch-site": "same-origin" };
    for (const path of [
      "Observation?patient=rower-jun",
      "Observation?subject=Patient/rower-jun",
      "Patient/rower-jun",
    ])
      expect((await visitor.fetch(`${app.origin}/sign-in/relay/record/${path}`, { headers })).status).toBe(
        200,
      );
    const { session } = (await app.store.findSessions({}))[0]!;
    const kept = JSON.stringify([session, await app.store.findConnection(session.id, "boathouse")]);
    for (const text of [kept, JSON.stringify(app.events), visitor.page!.trail.join(" ")]) {
      expect(text).not.toContain("rower-jun");
      expect(text).not.toContain("visit-202");
    }
    expect(kept).toContain("sealedContext");
  });

  it("leaves little behind, however many scopes there are, and is limited as sign-ins are", async () => {
    await app.stop();
    const types = Array.from(
      { length: 60 },
      (_, index) => `patient/Resource${String.fromCharCode(65 + (index % 26))}${"x".repeat(index)}.rs`,
    );
    app = await startClinicApp(
      { scope: `openid fhirUser launch/patient patient/Patient.r ${types.join(" ")}` },
      { limitRate: ({ url }) => (url.includes("slower") ? 7 : undefined) },
    );
    const adding = vi.spyOn(app.store, "addAttempt");
    await visitor.open(await opening());
    expect((await now()).launch?.patient).toBe("rower-tamsin");
    const [[record]] = adding.mock.calls as unknown as [[object]];
    expect(Object.values(record).join("").length).toBeLessThanOrEqual(1024);
    const limited = await visitor.fetch(`${app.origin}/sign-in/launch?slower`);
    expect([limited.status, limited.headers.get("retry-after")]).toEqual([429, "7"]);
  });

  it("asks no host that is not declared, whatever the address", async () => {
    const asked = app.events.length;
    for (const iss of [
      "https://records.elsewhere.example/fhir",
      "http://169.254.169.254/latest",
      `${practice.clinic}/../../mill-lane/fhir`,
      practice.clinicElsewhere,
      practice.clinic.replace("http:", "https:"),
      practice.clinic.toUpperCase(),
      "",
    ]) {
      await visitor.open(`${app.origin}/sign-in/launch?launch=x&iss=${encodeURIComponent(iss)}`);
      expect(codeOf(), iss).toBe("launch.host-unknown");
    }
    expect(app.events.slice(asked).filter(({ kind }) => kind === "leg")).toEqual([]);
  });

  it("begins at the app as well, where the host has a patient and a visit chosen", async () => {
    await app.stop();
    app = await startClinicApp({ scope: "openid launch/patient launch/encounter patient/*.read" });
    await visitor.open(`${app.origin}/sign-in/to/boathouse?returnTo=/tides`);
    await visitor.press("Zoë");
    await visitor.press("Jun Oakes");
    await visitor.press("Visit visit-202");
    await visitor.press("Allow");
    const { launch, person } = await now();
    expect(launch).toMatchObject({ patient: "rower-jun", encounter: "visit-202", notGranted: [] });
    expect(launch?.needPatientBanner).toBeUndefined();
    expect(person?.name).toBe("Zoë Łukasińska-Ōta");
    await visitor.open(`${app.origin}/sign-in/to/boathouse`);
    await visitor.press("Zoë");
    await visitor.press("Jun Oakes");
    await visitor.press("Visit visit-202");
    expect((await visitor.press("Do not allow")).text).toContain("You are not signed in");
  });

  it("sends people to sign in whom somebody has sent here (OpenID Connect Core 1.0, 4), and back to its own pages only", async () => {
    const sent = (target: string) =>
      visitor.post(
        `${app.origin}/sign-in/launch`,
        { iss: practice.clinic, target_link_uri: target },
        practice.ward,
      );
    await sent(`${app.origin}/tides?day=2`);
    await visitor.press("Maren");
    await visitor.press("Tamsin");
    await visitor.press("Allow");
    expect(visitor.page?.trail.some((url) => url.startsWith(`${app.origin}/tides?day=2&launched=`))).toBe(
      true,
    );
    for (const target of [
      "https://elsewhere.example/",
      "//elsewhere.example",
      `${app.origin}.elsewhere.example/`,
    ]) {
      await sent(target);
      expect(codeOf(), target).toBe("server.return-path-refused");
    }
    // Who is there for connecting accounts alone signs nobody in, by this door neither.
    await app.stop();
    app = await startClinicApp({}, { connections: { quayside: {} } });
    await visitor.open(`${app.origin}/sign-in/launch?iss=${encodeURIComponent(practice.issuer)}`);
    expect(codeOf()).toBe("launch.host-unknown");
  });

  it("says which scopes were not granted, whatever their syntax", async () => {
    practice.rehearse("scope-narrower");
    await visitor.open(await opening());
    expect((await now()).launch?.notGranted).toEqual(["patient/Observation.rs"]);
  });

  it("takes a context that a refresh brings, keeps one that it does not, and leaves out one that cannot be used", async () => {
    practice.rehearse("patient-switched-on-refresh");
    await visitor.open(await opening());
    const before = await now();
    app.aheadSeconds = 40;
    const { headers } = new Request(app.origin, {
      headers: { "tenonsaw-launch": handleOf(), "tenonsaw-relay": "1", "sec-fetch-site": "same-origin" },
    });
    await visitor.fetch(`${app.origin}/sign-in/relay/record/Patient/rower-jun`, { headers });
    const after = await now();
    expect([before.launch?.patient, after.launch?.patient]).toEqual(["rower-tamsin", "rower-jun"]);
    expect(after.tag).not.toBe(before.tag);
    expect(after.launch).toMatchObject({ user: before.launch?.user, style: before.launch?.style });
    // A visit is one patient's: that of the one before is not the other's.
    expect([before.launch?.encounter, after.launch?.encounter]).toEqual(["visit-201", undefined]);
  });

  it("is each house of a host in turn, where the settings admit them", async () => {
    await app.stop();
    const issuer = practice.clinic.replace("riverside", "{house}");
    app = await startClinicApp({
      issuer,
      launch: { tenants: { placeholder: "{house}", admitted: ["mill-lane"] } },
    });
    const ward = practice.ward.replace("riverside", "mill-lane");
    await visitor.open(await opening("&patient=rower-ase", ward));
    const launched = handleOf();
    expect((await now()).launch).toMatchObject({
      host: "boathouse.mill-lane",
      base: practice.clinicElsewhere,
    });
    const headers = { "tenonsaw-launch": launched, "tenonsaw-relay": "1", "sec-fetch-site": "same-origin" };
    const answer = await visitor.fetch(`${app.origin}/sign-in/relay/record/Patient/rower-ase`, { headers });
    expect(await answer.json()).toMatchObject({ id: "rower-ase" });
    await visitor.open(await opening());
    expect(codeOf()).toBe("launch.host-unknown");
    expect(visitor.page?.text).toContain("launch.tenants.admitted");
    // An answer to nothing is that, and nothing about houses.
    for (const [query, code] of [
      ["", "response.empty"],
      ["?state=made-up&code=x", "response.state-altered"],
    ] as const) {
      await visitor.open(`${app.origin}/sign-in/from/boathouse${query}`);
      expect(codeOf()).toBe(code);
    }
    // Nobody who begins here has a house yet.
    expect(app.signIn.providers.map(({ name }) => name)).toEqual(["quayside"]);
    await visitor.open(`${app.origin}/sign-in/to/boathouse`);
    expect(codeOf()).toBe("launch.host-unknown");
  });
});

describe("an app in a host's frame", () => {
  it("keeps a cookie of its own for the host's site", async () => {
    const url = await opening();
    const first = await visitor.fetch(url, { headers: framed });
    expect(first.headers.get("set-cookie")).toMatch(
      /^tenonsaw-launch=[\w-]{43}; .*Secure; Partitioned; SameSite=None$/,
    );
    await visitor.open(url, framed);
    expect((await now()).launch?.patient).toBe("rower-tamsin");
    const policy = (await visitor.open(`${app.origin}/sign-in/to/nobody`)).headers.get(
      "content-security-policy",
    );
    expect(policy).toContain(`frame-ancestors ${new URL(practice.ward).origin}`);
    expect(app.signIn.frameAncestors).toEqual([new URL(practice.ward).origin]);
  });

  it("keeps a key by itself where no cookie is kept, and brings it with the answer and with each call", async () => {
    const bare = (url: string, init: RequestInit = {}) =>
      fetch(url, {
        redirect: "manual",
        ...init,
        headers: { ...framed, ...Object.fromEntries(new Headers(init.headers)) },
      });
    const opened = await opening("&patient=rower-jun");
    const first = await bare(opened);
    const again = new URL(first.headers.get("location")!, app.origin).href;
    const second = await bare(again);
    const told = JSON.parse(
      /<data id="launch" value="([^"]*)"/
        .exec(await second.text())![1]!
        .replaceAll("&quot;", '"')
        .replaceAll("&amp;", "&"),
    ) as { readonly key: string; readonly goTo: string };
    const back = (await bare(told.goTo)).headers.get("location")!;
    expect(await (await bare(back)).text()).toContain('action="/sign-in/launch/back"');
    const bring = (key: string, more: Record<string, string> = { "sec-fetch-site": "same-origin" }) =>
      bare(`${app.origin}/sign-in/launch/back`, {
        method: "POST",
        headers: { origin: app.origin, ...more },
        body: new URLSearchParams({ host: "boathouse", answer: new URL(back).search.slice(1), key }),
      });
    const problemOf = async (answer: Response) => codeOf(await answer.text());
    // Each value opens one launch, whether a cookie says so or not.
    expect(await problemOf(await bare(again))).toBe("launch.value-used");
    // What is no launch is never bound to a key that a page brings.
    const plain = new URL((await bare(`${app.origin}/sign-in/to/quayside`)).headers.get("location")!);
    const other = new URLSearchParams({
      state: plain.searchParams.get("state")!,
      code: "c",
      iss: practice.issuer,
    });
    const asIs = await bare(`${app.origin}/sign-in/launch/back`, {
      method: "POST",
      headers: { origin: app.origin, "sec-fetch-site": "same-origin" },
      body: new URLSearchParams({ host: "quayside", answer: other.toString(), key: told.key }),
    });
    expect(await problemOf(asIs)).toBe("response.cookie-missing");
    // A stranger's answer in somebody's frame, a frame of another site, and one that has kept nothing.
    expect(await problemOf(await bring("a".repeat(43)))).toBe("response.other-browser");
    expect(await problemOf(await bring(told.key, { origin: "https://elsewhere.example" }))).toBe(
      "session.other-origin",
    );
    expect(await problemOf(await bring(""))).toBe("launch.frame-without-storage");
    const end = await bring(told.key);
    expect([end.status, end.headers.get("set-cookie")]).toEqual([303, null]);
    await visitor.open(opened);
    expect(codeOf()).toBe("launch.value-used");
    const launched = handleOf(end.headers.get("location")!);
    const look = async (launch: string) =>
      (await (
        await fetch(`${app.origin}/sign-in/session`, { headers: { "tenonsaw-launch": launch } })
      ).json()) as SessionNow;
    expect((await look(`${launched}.${told.key}`)).launch?.patient).toBe("rower-jun");
    expect(await look(launched)).toEqual({ signedIn: false });
    // In an address a key is none: addresses are seen by others.
    const inAddress = await fetch(`${app.origin}/sign-in/session?launched=${launched}.${told.key}`);
    expect(await inAddress.json()).toEqual({ signedIn: false });
  });
});

describe("how the app proves itself", () => {
  const makeKeys = (alg: "RS384" | "ES384") => {
    const { privateKey, publicKey } =
      alg === "RS384"
        ? newKeyPair("rsa", { modulusLength: 2048 })
        : newKeyPair("ec", { namedCurve: "P-384" });
    const named = { kid: "own", alg, use: "sig" };
    return {
      clientKeys: JSON.stringify({ ...privateKey.export({ format: "jwk" }), ...named }),
      publicKeys: [{ ...publicKey.export({ format: "jwk" }), ...named }],
    };
  };

  it.each(["RS384", "ES384"] as const)(
    "is by an assertion in %s, with its key set at an address; and by no person at all",
    async (alg) => {
      await app.stop();
      const { clientKeys, publicKeys } = makeKeys(alg);
      app = await startClinicApp(
        { clientSecret: undefined, clientKeys },
        { apis: { record: { provider: "boathouse", clientScope: "system/Observation.rs" } } },
        { clientSecret: undefined, publicKeys },
      );
      await visitor.open(await opening());
      expect((await now()).launch?.patient).toBe("rower-tamsin");
      const published = (await (await fetch(`${app.origin}/sign-in/keys`)).json()) as {
        keys: { kid: string }[];
      };
      expect(published.keys.map(({ kid }) => kid)).toEqual(["own"]);
      // Backend services: client credentials with a signed assertion.
      const read = await app.signIn.fetch("record", "/Observation?_count=50");
      expect(((await read.json()) as Bundle).entry).toHaveLength(45);
      expect((await app.signIn.fetch("record", "/Patient/rower-jun")).status).toBe(403);
    },
  );

  it("is by nothing where it has nothing", async () => {
    await app.stop();
    app = await startClinicApp({ clientSecret: undefined }, {}, { clientSecret: undefined });
    await visitor.open(await opening());
    expect((await now()).launch?.patient).toBe("rower-tamsin");
  });
});

describe("the same answer twice", () => {
  it("is the same launch, for a browser that loads twice; for anybody else it is over", async () => {
    const answer = async (url: string) => (await visitor.fetch(url)).headers.get("location") ?? "";
    const there = await answer(await opening());
    const back = await answer(there);
    const [first, second] = await Promise.all([answer(back), answer(back)]);
    expect([first, second].filter((each) => handleOf(each || app.origin) !== "").length).toBeGreaterThan(0);
    const third = await answer(back);
    expect(handleOf(third)).toBe(handleOf(first || second));
    app.aheadSeconds = 6;
    expect((await visitor.open(back)).text).toContain("response.attempt-used");
  });
});

describe("a launch that is over", () => {
  it("is said to be, and nobody goes round in a circle", async () => {
    await visitor.open(`${app.origin}/tides?launched=${"a".repeat(22)}`);
    expect([visitor.page?.status, codeOf()]).toEqual([401, "launch.ended"]);
  });

  it("is over for a page that needs its token, once that is and nothing renews it; and not told as a scope refused", async () => {
    await app.stop();
    app = await startClinicApp({ scope: "openid fhirUser patient/Patient.r" });
    const { url } = await visitor.open(await opening());
    const cookie = [...(visitor.cookies.get("localhost") ?? [])].map((each) => each.join("=")).join("; ");
    const open = async (scope: string) => {
      const page = app.signIn.protect(async () => new Response("pulse"), { scope });
      return codeOf(await (await page(new Request(url, { headers: { cookie } }))).text());
    };
    expect(await open("patient/Patient.r")).toBe("pulse");
    expect(await open("patient/Observation.rs")).toContain("connection.scope-insufficient");
    app.aheadSeconds = 7200;
    expect(await open("patient/Patient.r")).toContain("launch.ended");
  });
});

describe("a host's style", () => {
  it.each(["style-hostile", "style-elsewhere", "style-no-address", "style-page", "style-too-long"] as const)(
    "is left out and reported: %s",
    async (name) => {
      await app.stop();
      const reports: string[] = [];
      app = await startClinicApp({}, { onProblem: ({ problem }) => void reports.push(problem.code) });
      practice.rehearse(name);
      await visitor.open(await opening());
      expect([(await now()).launch?.style, reports]).toEqual([undefined, ["launch.style-refused"]]);
    },
  );
});

describe("what a sound app makes of what a host does wrong", () => {
  it.each(rehearsals.filter((each: Rehearsal) => each.asks === "launch"))(
    "rehearses $name: $ending",
    async ({ name, ending }) => {
      practice.rehearse(name);
      await visitor.open(await opening());
      const found = visitor.page?.url.includes("launched=") === true ? "signed in" : codeOf();
      expect(found).toBe(ending);
    },
  );
});

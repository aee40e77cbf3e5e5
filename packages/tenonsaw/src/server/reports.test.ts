import { createServer, request, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { gzipSync } from "node:zlib";
import { beforeEach, describe, expect, it } from "vitest";
import { createFakeWorld, issuer, metadata } from "../../../../tests/support/fake-world.js";
import { isProblem } from "../problem/index.js";
import { createMemoryStore } from "../stores/memory.js";
import { forExpress, guardForExpress } from "./adapters/express.js";
import { forFastify, guardForFastify } from "./adapters/fastify.js";
import { forHono, guardForHono } from "./adapters/hono.js";
import { forKoa, guardForKoa } from "./adapters/koa.js";
import { guardForNode, nodeListener } from "./adapters/node.js";
import { createSignIn, passOn, type ProblemReport, type SignIn, type SignInSettings } from "./index.js";
import { sealingKey } from "../../../../scripts/sealing-key.mjs";

const origin = "http://localhost:3000";
const lines: string[] = [];
const world = createFakeWorld({ print: (line) => lines.push(line) });

function settings(more: Partial<SignInSettings> = {}): SignInSettings {
  return {
    origin,
    keys: sealingKey,
    store: createMemoryStore(),
    providers: { quayside: { issuer, clientId: "ferrywell" } },
    apis: {
      tidebook: { origin: "https://tidebook.example", provider: "quayside", clientScope: "tides.read" },
    },
    platform: world.platform,
    ...more,
  };
}

async function open(signIn: SignIn, path: string, headers: Record<string, string> = {}): Promise<Response> {
  const answer = await signIn.handle(new Request(origin + path, { headers }));
  if (!answer) throw new TypeError("not a route");
  return answer;
}

beforeEach(() => {
  lines.length = 0;
});

describe("an error of the app's own", () => {
  let server: Server;
  let origin: string;
  const serve = async (more: Partial<SignInSettings>) => {
    const signIn = await createSignIn(settings(more));
    server = createServer(
      nodeListener(signIn, (asked) => {
        const { pathname } = new URL(asked.url);
        if (pathname === "/thrown") throw new TypeError("no tides\u001b[2J today");
        // eslint-disable-next-line @typescript-eslint/only-throw-error -- as apps do
        if (pathname === "/odd") throw { secret: "s3cret" };
        // eslint-disable-next-line @typescript-eslint/only-throw-error -- as apps do
        if (pathname === "/words") throw "no tides today";
        const given = handed.get(pathname);
        if (pathname === "/packed")
          return new Response(gzipSync("well"), { headers: { "content-encoding": "gzip" } });
        if (pathname === "/reading") return asked.text().then((text) => new Response(text));
        return given ? (given() as Response) : new Response("well");
      }),
    );
    await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
    origin = `http://localhost:${(server.address() as AddressInfo).port}`;
  };
  const end = () => new Promise((resolve) => server.close(resolve));
  /** What handlers give back, by path. */
  const handed = new Map<string, () => unknown>();
  const broken = (after: string) => {
    const parts = after === "" ? [] : [new TextEncoder().encode(after)];
    return new ReadableStream<Uint8Array>({
      pull(controller) {
        const part = parts.shift();
        if (part) controller.enqueue(part);
        else controller.error(new RangeError("the well ran dry"));
      },
    });
  };

  it("is a page that says nothing, and a line that says all, with the stack once", async () => {
    await serve({});
    const page = await fetch(`${origin}/thrown?token=s3cret`);
    expect(page.status).toBe(500);
    const text = await page.text();
    expect(text).toContain("server.app-failed");
    expect(text).not.toContain("tides");
    expect(lines[0]).toMatch(
      /^tenonsaw: server\.app-failed during GET \/thrown\. The app threw .* Cause: TypeError: no tides\\x1b\[2J today\. Change here: /,
    );
    expect(lines[1]).toMatch(/^\s+at .*reports\.test\.ts/);
    world.now += 2;
    await fetch(`${origin}/thrown`);
    expect(lines).toHaveLength(3);
    await fetch(`${origin}/odd`);
    expect(lines.join("\n")).not.toContain("s3cret");
    expect(lines.at(-2)).toContain("server.app-failed during GET /odd");
    await fetch(`${origin}/words`);
    expect(lines.at(-2)).toContain(
      "Cause: TypeError: thrown as a text of 14 characters, which is no Error: no tides today.",
    );
    await end();
  });

  it("is a handler that answers with what is no answer, and which of the reasons it has", async () => {
    await serve({ development: true });
    const read = async () => {
      const answer = new Response("well");
      await answer.text();
      return answer;
    };
    const reasons: [string, () => unknown, received: RegExp, here: string][] = [
      ["/none", () => undefined, /Received: nothing/, "only what `return` says"],
      ["/null", () => null, /Received: nothing/, "only what `return` says"],
      ["/text", () => "well", /Received: a text of 4 characters/, "new Response(text)"],
      ["/data", () => ({ status: 200, headers: {} }), /Received: "Object"/, "Response.json(value)"],
      ["/bare", () => Object.create(null) as unknown, /Received: "object"/, "Response.json(value)"],
      ["/read", read, /without its body/, "answer.clone()"],
      ["/fetched", () => fetch(`${origin}/packed`), /an answer of fetch/, "passOn(answer)"],
      [
        "/waited",
        () => passOn(fetch(`${origin}/well`) as never),
        /Received: "Promise"/,
        "Put `await` before it",
      ],
    ];
    for (const [path, give, received, here] of reasons) {
      handed.set(path, give);
      world.now += 2;
      const page = await fetch(origin + path);
      expect(page.status).toBe(500);
      expect(await page.text()).toContain("(server.not-a-response)");
      expect(lines.at(-1)).toContain(`tenonsaw: server.not-a-response during GET ${path}.`);
      expect(lines.at(-1)).toMatch(received);
      expect(lines.at(-1)).toContain(here);
    }
    const signIn = await createSignIn(settings());
    handed.set("/passed", async () => passOn(await fetch(`${origin}/packed`)));
    // What was not compressed can go on as it is: an app may stand before another.
    handed.set("/before", () => fetch(`${origin}/well`));
    for (const path of ["/passed", "/before"]) expect(await (await fetch(origin + path)).text()).toBe("well");
    expect(() => signIn.protect(undefined as never)).toThrow("(server.unfit-argument)");
    await end();
  });

  it("is no browser that has gone in the middle of its request", async () => {
    await serve({});
    const gone = request(`${origin}/reading`, { method: "POST", headers: { "content-length": "10" } });
    gone.on("error", () => undefined);
    gone.write("half");
    server.once("request", () => gone.destroy());
    await expect
      .poll(() => lines)
      .toEqual([
        expect.stringMatching(
          /^tenonsaw: server\.body-broken during POST \/reading\. .*a browser that has gone/,
        ),
      ]);
    await end();
  });

  it.each(["", "half of it"])(
    "is an answer that breaks off after %j, told where nothing can be shown",
    async (after) => {
      await serve({});
      handed.set("/cut", () => new Response(broken(after)));
      await expect(fetch(`${origin}/cut`).then((answer) => answer.text())).rejects.toThrow();
      await expect
        .poll(() => lines)
        .toEqual([
          expect.stringMatching(
            /^tenonsaw: server\.answer-cut during GET \/cut\. .* Received: "RangeError: the well ran dry"\. /,
          ),
        ]);
      await end();
    },
  );

  it("is told with the code of what it came from, and without the words of that", async () => {
    const cause = Object.assign(new Error("no header Bearer s3cret"), { code: "ECONNREFUSED" });
    const error = new TypeError("fetch failed", { cause });
    const page = (await createSignIn({ ...settings(), development: true })).explain(error);
    for (const text of [lines.join("\n"), await page.text()]) {
      expect(text).toContain("caused by Error: ECONNREFUSED");
      expect(text).not.toContain("s3cret");
    }
  });

  it("is shown in full in development, and as data to a front end", async () => {
    await serve({ development: true });
    const text = await (await fetch(`${origin}/thrown`)).text();
    expect(text).toContain("TypeError: no tides");
    expect(text).toMatch(/reports\.test\.ts:\d+/);
    const data = await fetch(`${origin}/thrown`, { headers: { accept: "application/json" } });
    expect(await data.json()).toMatchObject({ kind: "failed", problem: { code: "server.app-failed" } });
    await end();
  });
});

/** What adapters are handed by mistake, and what they say of it. */
const adapters: [string, (given: never) => unknown, "createSignIn" | "openGuard"][] = [
  ["nodeListener", (given) => nodeListener(given, () => new Response()), "createSignIn"],
  ["forExpress", forExpress, "createSignIn"],
  ["forFastify", forFastify, "createSignIn"],
  ["forKoa", forKoa, "createSignIn"],
  ["forHono", forHono, "createSignIn"],
  ["guardForNode", guardForNode, "openGuard"],
  ["guardForExpress", guardForExpress, "openGuard"],
  ["guardForFastify", guardForFastify, "openGuard"],
  ["guardForKoa", guardForKoa, "openGuard"],
  ["guardForHono", guardForHono, "openGuard"],
];

describe.each(adapters)("%s", (_, adapt, maker) => {
  it.each<[string, () => unknown, string]>([
    ["a promise", () => Promise.resolve({}), "Put `await` before"],
    ["nothing", () => undefined, "the reference in docs/api"],
    ["settings", () => settings(), "the reference in docs/api"],
  ])("is not made for %s", (_kind, given, here) => {
    const adapting = () => adapt(given() as never);
    expect(adapting).toThrow("(server.unfit-argument)");
    expect(adapting).toThrow(`${maker} `);
    expect(adapting).toThrow(here);
  });
});

it.each<[string, (signIn: SignIn) => unknown]>([
  ["nodeListener", (signIn) => nodeListener(signIn, undefined as never)],
  ["forExpress", (signIn) => forExpress(signIn).protect(undefined as never)],
  ["forFastify", (signIn) => forFastify(signIn).protect(undefined as never)],
  ["forKoa", (signIn) => forKoa(signIn).protect(undefined as never)],
  ["forHono", (signIn) => forHono(signIn).protect(undefined as never)],
])("%s protects no handler that is none", async (_, protect) => {
  const signIn = await createSignIn(settings());
  expect(() => protect(signIn)).toThrow(/server\.unfit-argument.*a function that answers requests/s);
});

describe("what is told by default", () => {
  it("is what visitors do wrong once a minute each, and how often it was", async () => {
    const signIn = await createSignIn(settings());
    for (let round = 0; round < 5; round += 1)
      await open(signIn, "/sign-in/from/quayside?error=access_denied&state=x");
    await open(signIn, "/sign-in/nowhere");
    expect(lines.map((line) => /^tenonsaw: (\S+) during (\S+ \S+)\./.exec(line)?.slice(1))).toEqual([
      ["platform.unreachable", "GET /sign-in/from/quayside"],
      ["server.route-unknown", "GET /sign-in/nowhere"],
    ]);
    world.now += 61;
    await open(signIn, "/sign-in/nowhere");
    await open(signIn, "/sign-in/nowhere");
    world.now += 61;
    await open(signIn, "/sign-in/nowhere");
    expect(lines.at(-1)).toMatch(/ \(and 1 more like it\)$/);
  });

  it("is in development a parameter that is nearly one that counts, or one of the protocol, and no other", async () => {
    const path = "/sign-in/to/quayside?return_to=/tides&utm_source=x&id=7&scope=openid";
    for (const development of [false, true]) {
      await open(await createSignIn(settings({ development })), path);
      const told = lines.filter((line) => line.includes("attempt.parameter-unknown"));
      expect(told).toEqual(
        development
          ? [
              expect.stringMatching(
                /during GET \/sign-in\/to\/quayside\..* Received: "return_to"\. Expected: "returnTo"\./,
              ),
            ]
          : [],
      );
    }
    await open(await createSignIn(settings({ development: true })), "/sign-in/to/quayside?prompt=login");
    expect(lines.join("\n")).toMatch(/Received: "prompt"\. Expected: one of returnTo, .*maxAge=0/);
    // Wherever an address or a form of the app's own says something.
    const connecting = settings({ development: true, connections: { quayside: { alsoForSignIn: true } } });
    const signIn = await createSignIn(connecting);
    for (const [path, fields, received] of [
      ["/sign-in?next=/tides", undefined, /"next"\. Expected: "returnTo"/],
      ["/sign-in?acr=gold", undefined, /"acr"\. Expected: "acrValues"/],
      ["/sign-in/to/quayside?in=popup", undefined, /in="popup"\. Expected: in=pop-up/],
      ["/sign-in/connect/quayside?scopes=x", undefined, /"scopes"\. Expected: "scope"/],
      ["/sign-in/out", { everywere: "1" }, /"everywere"\. Expected: "everywhere"/],
      ["/sign-in/unlink", { isuer: issuer }, /"isuer"\. Expected: "issuer"/],
    ] as const) {
      lines.length = 0;
      const sent = { method: "POST", headers: { origin }, body: new URLSearchParams(fields) };
      await signIn.handle(new Request(origin + path, fields && sent));
      expect(lines.join("\n")).toMatch(received);
    }
  });

  it("is in development a sign-in that begins elsewhere than at `origin`", async () => {
    world.answers.set(`${issuer}/.well-known/openid-configuration`, Response.json(metadata));
    const signIn = await createSignIn(settings({ development: true }));
    for (const [headers, said] of [
      [
        { host: "127.0.0.1:3000" },
        /Received: "http:\/\/127\.0\.0\.1:3000"\. Expected: "http:\/\/localhost:3000"/,
      ],
      [{ host: "localhost:3000", "x-forwarded-proto": "https" }, /Received: "https:\/\/localhost:3000"/],
      [{ host: "localhost:3001", referer: `${origin}/` }, undefined],
      [{ host: "localhost:3000" }, undefined],
    ] as const) {
      lines.length = 0;
      await open(signIn, "/sign-in/to/quayside", headers);
      expect(lines.filter((line) => line.includes("attempt.other-host"))).toEqual(
        said ? [expect.stringMatching(said)] : [],
      );
    }
  });

  it("is in development a session cookie that fits no session, once", async () => {
    const forgetful = await createSignIn(settings({ development: true }));
    const lasting = { ...createMemoryStore(), isForgetful: undefined };
    const another = await createSignIn(settings({ development: true, store: lasting as never }));
    const secretive = await createSignIn(settings());
    const says = [/begun with an empty store\..*began 0 s ago/, /same `cookiePrefix`/, undefined];
    for (const [index, signIn] of [forgetful, another, secretive].entries()) {
      lines.length = 0;
      for (let round = 0; round < 2; round += 1) {
        const cookie = `tenonsaw-session=${"A".repeat(43)}`;
        expect(await signIn.session(new Request(origin, { headers: { cookie } }))).toBeUndefined();
      }
      const said = says[index];
      expect(lines).toEqual(said ? [expect.stringMatching(said)] : []);
    }
  });

  it("is passed on by the page that offers the providers, as far as it counts", async () => {
    const signIn = await createSignIn(settings());
    const page = await open(signIn, "/sign-in?returnTo=/tides&maxAge=0&utm_source=x");
    expect(await page.text()).toContain('href="/sign-in/to/quayside?returnTo=%2Ftides&amp;maxAge=0"');
    const own = await createSignIn(settings({ pages: { chooser: "/choose?from=door" } }));
    const location = (await open(own, "/sign-in?maxAge=0")).headers.get("location");
    expect(location).toBe(`${origin}/choose?from=door&returnTo=%2F&maxAge=0`);
  });

  it("is an API that fails the app: what it says, or that it says nothing", async () => {
    world.answers.set(`${issuer}/.well-known/openid-configuration`, Response.json(metadata));
    world.answers.set(
      metadata.token_endpoint,
      Response.json({ access_token: "t0ken", token_type: "Bearer", expires_in: 60 }),
    );
    const url = "https://tidebook.example/tides";
    const signIn = await createSignIn(settings());
    world.answers.set(url, new Response(null, { status: 503, headers: { "retry-after": "30" } }));
    expect((await signIn.fetch("tidebook", "/tides")).status).toBe(503);
    expect(lines).toEqual([
      expect.stringMatching(
        /^tenonsaw: connection\.api-failed during GET at https:\/\/tidebook\.example\. .*status 503 from tidebook, retry-after "30"/,
      ),
    ]);
    world.now += 2;
    const why = [
      ["ECONNREFUSED", "Nothing listens at an address", "the service has been started"],
      ["SELF_SIGNED_CERT_IN_CHAIN", "A server's certificate is not trusted here", "NODE_EXTRA_CA_CERTS"],
      ["EODD", "An API did not answer", "`origin` of the API"],
    ] as const;
    for (const [code, title, remedy] of why) {
      world.answers.set(url, Object.assign(new TypeError("fetch failed t0ken"), { code }));
      await expect(signIn.fetch("tidebook", "/tides")).rejects.toThrow("fetch failed");
      const received = `Received: no answer from https://tidebook.example: "${code}".`;
      expect(lines.at(-1)).toContain(`${title}. ${received}`);
      expect(lines.at(-1)).toContain(remedy);
      world.now += 60;
    }
    const away = { status: 302, headers: { location: "https://login.example/?state=hush" } };
    world.answers.set(url, new Response(null, away));
    expect((await signIn.fetch("tidebook", "/tides")).status).toBe(302);
    expect(lines.at(-1)).toMatch(
      /sends a call on .*status 302 from tidebook, to "https:\/\/login.example\/"/,
    );
    world.answers.set(url, new Response(null, { status: 404 }));
    const before = lines.length;
    await signIn.fetch("tidebook", "/tides", { redirect: "manual" });
    await signIn.fetch("tidebook", "/tides");
    expect(lines).toHaveLength(before);
  });

  it("is what the settings should not say: `development` where everybody can see it, and a store that forgets or drops", async () => {
    await createSignIn(settings({ development: true }));
    expect(lines).toEqual([]);
    await createSignIn(settings({ development: true, origin: "https://ferrywell.example" }));
    expect(lines).toEqual([
      expect.stringMatching(/^tenonsaw: the setting development is on at an https origin/),
      expect.stringMatching(/^tenonsaw: the setting store forgets everything when the process ends/),
    ]);
    await createSignIn({ ...settings(), store: { ...createMemoryStore(), evictsBy: "allkeys-lru" } });
    expect(lines.at(-1)).toMatch(/^tenonsaw: the setting store drops .+\(allkeys-lru\).+noeviction\.$/);
  });
});

describe("what strangers can do", () => {
  it("fills no log: so many lines a second, whatever they are of, and how many more there were", async () => {
    const signIn = await createSignIn(settings());
    for (let count = 0; count < 500; count += 1)
      signIn.explain(new TypeError("x"), new Request(`http://localhost:3000/${count}`));
    expect(lines.filter((line) => line.startsWith("tenonsaw"))).toHaveLength(20);
    world.now += 2;
    signIn.explain(new TypeError("x"), new Request("http://localhost:3000/499"));
    expect(lines.at(-2) ?? lines.at(-1)).toMatch(/ \(and 1 more like it\)$/);
  });
});

describe("a listener of the app's own that fails", () => {
  it("ends nothing but itself, and is a line", async () => {
    const signIn = await createSignIn(
      settings({
        trace: () => {
          throw new TypeError("no trace today");
        },
      }),
    );
    expect((await open(signIn, "/sign-in/nowhere")).status).toBe(404);
    expect(lines[0]).toMatch(/Received: TypeError, thrown by `trace`\. .* Cause: TypeError: no trace today/);
    const later = await createSignIn(
      settings({ trace: () => Promise.reject(new TypeError("later")) as never }),
    );
    expect((await open(later, "/sign-in/nowhere")).status).toBe(404);
    await expect.poll(() => lines.join("\n")).toContain("Cause: TypeError: later");
  });
});

describe("onProblem", () => {
  it("gets each, whole, in place of the lines; and when it fails itself, that is a line", async () => {
    const told: ProblemReport[] = [];
    const signIn = await createSignIn(settings({ onProblem: (report) => void told.push(report) }));
    await open(signIn, "/sign-in/nowhere?code=s3cret");
    await open(signIn, "/sign-in/nowhere");
    expect(lines).toEqual([]);
    expect(told).toHaveLength(2);
    const [{ problem, during, error, at } = {} as ProblemReport] = told;
    expect([problem.code, during, at]).toEqual(["server.route-unknown", "GET /sign-in/nowhere", world.now]);
    expect(isProblem(error, "server.route-unknown")).toBe(true);
    const rejecting = await createSignIn(
      settings({ onProblem: () => Promise.reject(new TypeError("later")) as never }),
    );
    await open(rejecting, "/sign-in/nowhere");
    await new Promise((resolve) => setTimeout(resolve));
    const whole: unknown = expect.stringContaining("server.route-unknown during GET /sign-in/nowhere.");
    expect(lines.splice(0)).toEqual([expect.stringContaining("onProblem threw TypeError: later."), whole]);
    const failing = await createSignIn(
      settings({
        onProblem: () => {
          throw new TypeError("no log");
        },
      }),
    );
    expect((await open(failing, "/sign-in/nowhere")).status).toBe(404);
    expect(lines).toEqual([expect.stringContaining("onProblem threw TypeError: no log."), whole]);
  });

  it("does not send a failure page that fails to itself", async () => {
    const signIn = await createSignIn(settings({ pages: { failed: "/failed" } }));
    const at = (path: string) => signIn.explain(new TypeError("x"), new Request(origin + path));
    expect(at("/").headers.get("location")).toBe("/failed?problem=server.app-failed");
    expect(at("/tides").headers.get("location")).toBe("/failed?problem=server.app-failed");
    expect(at("/failed?problem=server.app-failed").status).toBe(500);
  });
});

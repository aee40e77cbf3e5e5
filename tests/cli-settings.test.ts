import { chmod, mkdtemp, readFile, readdir, rm, stat, writeFile } from "node:fs/promises";
import { createServer, request } from "node:http";
import { connect, type AddressInfo } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createTools } from "tenonsaw/jose";
import { readKeyRing } from "tenonsaw/server";
import { createVisitor, defaultClient, startPractice, type Practice } from "tenonsaw-practice";
import { createTestKey } from "./support/fake-world.js";
import { freePorts } from "../scripts/servers.mjs";
import { start } from "./support/processes.js";
import { startApp } from "./support/start-app.js";

const command = "packages/tenonsaw/bin/tenonsaw.js";
const env = {
  QUAYSIDE_SECRET: defaultClient.clientSecret ?? "",
  TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url"),
};

let folder: string;
let file: string;
let practice: Practice;
let origin: string;

beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), "tenonsaw-cli-"));
  file = join(folder, "tenonsaw.config.json");
  practice = await startPractice({ algorithm: "ES256" });
  origin = `http://localhost:${await freePorts(1)}`;
  practice.register({ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] });
  const quayside = {
    issuer: practice.issuer,
    clientId: "ferrywell",
    clientSecret: { env: "QUAYSIDE_SECRET" },
  };
  const settings = {
    providers: { quayside: { title: "Quayside ID", scope: "openid profile offline_access tides.read" } },
    apis: {
      tidebook: { provider: "quayside" },
      slipway: { provider: "quayside", clientScope: "slipway.status" },
    },
    environments: {
      sandbox: {
        origin,
        providers: { quayside },
        apis: { tidebook: { origin: practice.tidebook }, slipway: { origin: practice.slipway } },
      },
      production: {
        production: true,
        origin: "https://ferrywell.example",
        providers: {
          quayside: { ...quayside, issuer: "https://id.quayside.example", clientSecret: "hush-hush" },
        },
        apis: {
          tidebook: { origin: "https://tidebook.example" },
          slipway: { origin: "https://slipway.example" },
        },
      },
    },
  };
  await writeFile(file, `// Ferrywell\n${JSON.stringify(settings, undefined, 2)}`);
});
afterAll(async () => {
  await practice.stop();
  await rm(folder, { recursive: true });
});
const run = (...args: readonly string[]) => start(command, [...args, "--settings", file], { env }).finished;

describe("tenonsaw sheet", () => {
  it("prints the values to paste and how each came about", async () => {
    const { code, output } = await run("sheet", "quayside", "--env", "sandbox");
    expect(code).toBe(0);
    expect(output).toContain("Environment: sandbox");
    expect(output).toMatch(
      new RegExp(`Redirect URI +${origin}/sign-in/from/quayside\n +origin \\+ basePath`),
    );
    expect(output).toMatch(/Grant types +authorization_code\n +refresh_token/);
  });

  it("has the same as Markdown, as JSON, and as client metadata", async () => {
    const markdown = await run("sheet", "--env", "sandbox", "--format", "markdown");
    expect(markdown.output).toContain(`| Redirect URI | \`${origin}/sign-in/from/quayside\` |`);
    const json = await run("sheet", "--env", "sandbox", "--json");
    expect(JSON.parse(json.output)).toMatchObject({
      environment: "sandbox",
      sheets: [{ provider: "quayside" }],
    });
    const registration = await run("sheet", "--env", "sandbox", "--format", "registration");
    expect(JSON.parse(registration.output)).toEqual({
      quayside: {
        redirect_uris: [`${origin}/sign-in/from/quayside`],
        post_logout_redirect_uris: [`${origin}/sign-in/out/done`],
        backchannel_logout_uri: `${origin}/sign-in/back-channel/quayside`,
        backchannel_logout_session_required: true,
        frontchannel_logout_uri: `${origin}/sign-in/front-channel/quayside`,
        frontchannel_logout_session_required: true,
        response_types: ["code"],
        grant_types: ["authorization_code", "refresh_token"],
        scope: "openid profile offline_access tides.read",
        token_endpoint_auth_method: "client_secret_basic",
        application_type: "web",
      },
    });
  });
});

describe("tenonsaw sheet --register", () => {
  it("registers the app, keeps the secret in a file, and prints what refers to it", async () => {
    const secretFile = join(folder, "quayside.secret");
    const { code, output } = await run(
      "sheet",
      "quayside",
      "--env",
      "sandbox",
      "--register",
      "--secret-file",
      secretFile,
      "--json",
    );
    expect(code).toBe(0);
    const answer = JSON.parse(output) as { clientId: string };
    expect(answer).toEqual({
      provider: "quayside",
      clientId: answer.clientId,
      clientSecret: { file: secretFile },
    });
    expect((await stat(secretFile)).mode & 0o777).toBe(0o600);
    const secret = (await readFile(secretFile, "utf8")).trim();
    expect(output).not.toContain(secret);
    // What was printed, put into the settings, is right: check agrees.
    const registered = join(folder, "registered.json");
    const text = (await readFile(file, "utf8"))
      .replace('"ferrywell"', JSON.stringify(answer.clientId))
      .replace('"env": "QUAYSIDE_SECRET"', `"file": ${JSON.stringify(secretFile)}`);
    await writeFile(registered, text);
    const check = await start(command, ["check", "--env", "sandbox", "--settings", registered], { env })
      .finished;
    expect(check.output).toMatch(/^Nothing is wrong/);
    // And a secret that is there is never written over.
    const again = await run(
      "sheet",
      "quayside",
      "--env",
      "sandbox",
      "--register",
      "--secret-file",
      secretFile,
    );
    expect([again.code, (await readFile(secretFile, "utf8")).trim()]).toEqual([2, secret]);
  });

  it("registers no public client for an app whose settings have no secret yet", async () => {
    const bare = join(folder, "bare.json");
    const secretFile = join(folder, "bare.secret");
    const quayside = { issuer: practice.issuer, clientId: "not-yet" };
    await writeFile(bare, JSON.stringify({ origin: "http://localhost:5173", providers: { quayside } }));
    const args = [
      "sheet",
      "quayside",
      "--settings",
      bare,
      "--register",
      "--secret-file",
      secretFile,
      "--json",
    ];
    const { code, output } = await start(command, args, { env }).finished;
    expect(code).toBe(0);
    expect(JSON.parse(output)).toMatchObject({ clientSecret: { file: secretFile } });
    expect((await readFile(secretFile, "utf8")).trim()).not.toBe("");
  });

  it("leaves no empty file behind when the provider says no", async () => {
    const odd = join(folder, "odd.json");
    await writeFile(
      odd,
      (await readFile(file, "utf8")).replace("openid profile offline_access", "openid everything"),
    );
    const secretFile = join(folder, "odd.secret");
    const args = [
      "sheet",
      "quayside",
      "--env",
      "sandbox",
      "--settings",
      odd,
      "--register",
      "--secret-file",
      secretFile,
    ];
    const { code, errors } = await start(command, args, { env }).finished;
    expect(code).toBe(2);
    expect(errors).toContain("Not offered: everything");
    await expect(stat(secretFile)).rejects.toThrow("ENOENT");
  });
});

describe("tenonsaw check", () => {
  it("looks at some forty things where everything is right, and says so first", async () => {
    const { code, output } = await run("check", "--env", "sandbox", "--all");
    expect(output).toMatch(/^Nothing is wrong\. [34]\d looked at: \d+ good/);
    expect((await run("check", "--env", "sandbox")).output).not.toMatch(/ good {4}/);
    expect(output).toMatch(/authorization request +\S+ is registered/);
    expect(output).toMatch(/client +client ID and client_secret_basic are accepted/);
    expect(code).toBe(0);
  });

  it("asks nobody with --offline", async () => {
    const { code, output } = await run("check", "--env", "sandbox", "--offline", "--json");
    const { findings } = JSON.parse(output) as { findings: { name: string }[] };
    expect(findings.map(({ name }) => name)).not.toContain("metadata");
    expect(findings.length).toBeGreaterThan(8);
    expect(code).toBe(0);
  });

  describe("at a provider that is unlike others", () => {
    const answers = new Map<string, () => [number, Record<string, string>, string]>();
    const odd = createServer((incoming, outgoing) => {
      const path = new URL(incoming.url ?? "/", "http://x.invalid").pathname;
      const [status, headers, text] = answers.get(path)?.() ?? [404, {}, ""];
      outgoing.writeHead(status, { "content-type": "text/html", ...headers }).end(text);
    });
    let place = "";
    beforeAll(async () => {
      await new Promise<void>((resolve) => odd.listen(0, "localhost", resolve));
      place = `http://localhost:${(odd.address() as AddressInfo).port}`;
      const json = (value: object) => () =>
        [200, { "content-type": "application/json" }, JSON.stringify(value)] as [
          number,
          Record<string, string>,
          string,
        ];
      const endpoints = {
        authorization_endpoint: `${place}/ask`,
        token_endpoint: `${place}/token`,
        jwks_uri: `${place}/keys`,
      };
      answers.set(
        "/.well-known/openid-configuration",
        json({ issuer: place, ...endpoints, response_types_supported: ["code"] }),
      );
      answers.set("/keys", json({ keys: [createTestKey().publicJwk] }));
      answers.set("/token", () => [400, { "content-type": "application/json" }, '{"error":"invalid_grant"}']);
    });
    afterAll(() => new Promise((resolve) => odd.close(resolve)));

    it.each<[string, [number, Record<string, string>, string], number, RegExp, RegExp?]>([
      [
        "says so on a page with 200",
        [200, {}, "<h1>Error</h1><p>redirect_uri mismatch</p>"],
        1,
        /the redirect URI is refused/,
      ],
      [
        "says so on a page that it sends to",
        [302, { location: "/sorry" }, ""],
        1,
        /the redirect URI is refused/,
      ],
      [
        "fails",
        [500, {}, "<h1>Oops</h1>"],
        3,
        /Nothing is known to be wrong[^]*untold[^]*status 500[^]*Oops/,
      ],
      [
        "shows a log-in, whatever is in its scripts",
        [200, {}, "<script>var error='invalid redirect_uri'</script><h1>Log in</h1>"],
        3,
        /shows a page/,
      ],
      [
        "names some other address",
        [400, {}, "<p>Bad redirect. Read http://docs.quayside.example/redirects first.</p>"],
        1,
        /the page says +http:\/\/docs/,
        /registered +http/,
      ],
      ["refuses, and does not say what", [400, {}, "<p>No.</p>"], 3, /refused, and why is not clear: No\./],
    ])("which %s: what it says is told, and nothing more", async (_name, answer, expected, says, saysNot) => {
      answers.set("/ask", () => answer);
      answers.set("/sorry", () => [200, {}, "<p>This redirect URI is not registered.</p>"]);
      const settings = join(folder, "odd.json");
      const provider = { issuer: place, clientId: "ferrywell", clientSecret: { env: "QUAYSIDE_SECRET" } };
      await writeFile(settings, JSON.stringify({ origin, providers: { quayside: provider } }));
      const { code, output } = await start(command, ["check", "--settings", settings], { env }).finished;
      expect(output).toMatch(says);
      if (saysNot) expect(output).not.toMatch(saysNot);
      expect(code).toBe(expected);
    });
  });

  it("doubts sessions that last for long, and tokens for more than a sign-in asks for", async () => {
    const other = join(folder, "doubtful.json");
    const quayside = { issuer: practice.issuer, clientId: "ferrywell", scope: "openid tides.read" };
    const settings = {
      origin,
      providers: { quayside },
      apis: {
        tidebook: { provider: "quayside", origin: practice.tidebook, scope: "tides.read" },
        slipway: { provider: "quayside", origin: practice.slipway, scope: "slipway.status tides.read" },
      },
      sessionKinds: { counter: { lifetimeSeconds: 3600 }, own: { lifetimeSeconds: 90 * 86_400 } },
    };
    await writeFile(other, JSON.stringify(settings));
    const checked = await start(command, ["check", "--offline", "--json", "--settings", other], { env })
      .finished;
    const { findings } = JSON.parse(checked.output) as {
      findings: { name: string; verdict: string; looked: string }[];
    };
    const of = (name: string) => findings.find((each) => each.name === name);
    expect(["session kind counter", "API tidebook"].map((name) => of(name)?.verdict)).toEqual([
      "good",
      "good",
    ]);
    expect(of("session kind own")).toMatchObject({ verdict: "careful", looked: "90 days" });
    expect(of("API slipway")).toMatchObject({
      verdict: "careful",
      looked: "takes a token for slipway.status, which a sign-in with quayside does not ask for",
    });
  });

  it("calls the declared sample of each API without a token, and says what is there", async () => {
    const settings = join(folder, "samples.json");
    const quayside = {
      issuer: practice.issuer,
      clientId: "ferrywell",
      clientSecret: { env: "QUAYSIDE_SECRET" },
    };
    const at = (origin: string, sample: string) => ({ provider: "quayside", origin, sample });
    const apis = {
      asking: at(practice.tidebook, "/tides/today"),
      elsewhere: at(practice.tidebook, "/nowhere"),
      open: at(practice.issuer, "/.well-known/openid-configuration"),
      away: at(`http://localhost:${await freePorts(1)}`, "/tides/today"),
    };
    await writeFile(settings, JSON.stringify({ origin, providers: { quayside }, apis }));
    const { code, output } = await start(command, ["check", "--json", "--settings", settings], { env })
      .finished;
    const { findings } = JSON.parse(output) as {
      findings: { name: string; verdict: string; looked: string }[];
    };
    const found = findings.filter(({ name }) => name.startsWith("sample of "));
    expect(found.map(({ name, verdict }) => `${name} ${verdict}`)).toEqual([
      "sample of asking good",
      "sample of elsewhere wrong",
      "sample of open careful",
      "sample of away untold",
    ]);
    expect(found[3]?.looked).toContain("ECONNREFUSED");
    expect(code).toBe(1);
  });

  it("names what is missing, and does not show what is there", async () => {
    const { code, output } = await start(
      command,
      ["check", "--all", "--env", "sandbox", "--settings", file],
      {
        env: { QUAYSIDE_SECRET: "", TENONSAW_KEYS: "c2hvcnQtc2VjcmV0" },
      },
    ).finished;
    expect(code).toBe(1);
    expect(output).toContain("environment variable QUAYSIDE_SECRET is empty");
    expect(output).toContain("key 1: 12 bytes");
    expect(output).not.toContain("c2hvcnQ");
    // One thing is missing, and nothing else is said to be wrong because of it.
    expect(output).toMatch(/good +authorization request +\S+ is registered/);
    expect(output).toMatch(/^2 things are wrong/);
  });

  it("refuses a literal secret in production with file, line and column", async () => {
    const { code, errors } = await run("check", "--env", "production");
    expect(code).toBe(2);
    expect(errors).toMatch(
      /tenonsaw\.config\.json:\d+:\d+ providers\.quayside\.clientSecret: is a literal secret/,
    );
    expect(errors).not.toContain("hush");
  });

  it.each([
    [["--env", "sandbx"], 'did you mean "sandbox"?'],
    [[], "must be one of sandbox, production; nothing says which"],
    [["harbour", "--env", "sandbox"], "one of quayside"],
  ])("with %j says what there is", async (args, message) => {
    const { code, errors } = await run("check", ...args);
    expect(code).toBe(2);
    expect(errors).toContain(message);
  });

  it("tells a provider that is down from one whose settings are wrong", async () => {
    const down = join(folder, "down.json");
    const nobody = `http://localhost:${await freePorts(1)}`;
    const text = (await readFile(file, "utf8")).replaceAll(practice.issuer, nobody);
    await writeFile(down, text);
    const { code, output } = await start(command, ["check", "--env", "sandbox", "--settings", down], { env })
      .finished;
    expect(code).toBe(1);
    expect(output).toContain("ECONNREFUSED");
    await writeFile(down, text.replaceAll(nobody, `${practice.issuer}/`));
    const slash = await start(command, ["check", "--env", "sandbox", "--settings", down], { env }).finished;
    expect(slash.output).toMatch(/quayside, issuer\n +The metadata names the issuer with another end/);
    expect(slash.output).toMatch(/expected {2}\S+\/\n +received {2}\S+\n +\^/);
  });
});

/** A form that ends in the middle. */
function breakOff(address: string): Promise<void> {
  const { hostname, port, pathname } = new URL(address);
  return new Promise((resolve) => {
    const socket = connect(Number(port), hostname, () => {
      socket.write(`POST ${pathname} HTTP/1.1\r\nHost: x\r\nContent-Length: 99\r\n\r\nstate=`, () =>
        socket.destroy(),
      );
    });
    socket.on("close", () => resolve());
  });
}

/** A request whose address stands as it is, whatever a URL parser would make of it. */
function sendRaw(origin: string, path: string, method: string): Promise<number> {
  const { hostname, port } = new URL(origin);
  return new Promise((resolve, reject) => {
    const sent = request({ hostname, port, path, method }, (answer) => {
      answer.resume();
      resolve(answer.statusCode ?? 0);
    });
    sent.on("error", reject).end();
  });
}

describe("tenonsaw try", () => {
  async function trySignIn(answer: string, ...more: readonly string[]) {
    const running = start(command, ["try", "quayside", "--env", "sandbox", "--settings", file, ...more], {
      env,
    });
    const said = await running.waitFor("Waiting. Ctrl-C ends it.");
    const visitor = createVisitor();
    const url = new URL(/(http:\S+\/authorize\?\S+)/.exec(said)?.[1] ?? "");
    const back = url.searchParams.get("redirect_uri") ?? "";
    // Whoever else comes by is not taken for the answer, and nothing of it ends the waiting.
    const strays = [
      ["/favicon.ico"],
      ["//"],
      [back],
      [`${back}?code=x&state=other`],
      [back, "POST"],
    ] as const;
    for (const [address, method = "GET"] of strays)
      expect((await sendRaw(back, address, method)) >= 400).toBe(true);
    await breakOff(back);
    await visitor.open(url.href);
    await visitor.press("Maren");
    const page = await visitor.press(answer);
    return { ...(await running.finished), page };
  }

  it("shows each leg and each check, who it is, and what the token allows, but no token", async () => {
    const { code, output, page } = await trySignIn(
      "Yes, allow",
      "--call",
      `${practice.tidebook}/tides/today`,
    );
    expect(page.text).toContain("Go back to the terminal");
    expect(code).toBe(0);
    for (const text of [
      "token request: POST",
      "sent    grant_type=authorization_code  code=#",
      "answer  access_token=#",
      "check identity.nonce-mismatch: ok",
      "Maren Holt",
      "tides.read",
      "→ 200",
    ]) {
      expect(output).toContain(text);
    }
    expect(output).toContain("Ferrywell landing");
    expect(output).not.toMatch(/eyJ[\w-]+\.|only-for-practice/);
  });

  it.each([
    ["by a form", { responseMode: "form_post" }],
    ["behind the #", { responseType: "code id_token" }],
    ["with tokens bound to a key", { dpopBoundAccessTokens: true }],
  ])("takes an answer %s, and calls an API by its name", async (_name, changes) => {
    const settings = join(folder, "forms.json");
    const quayside = {
      issuer: practice.issuer,
      clientId: "ferrywell",
      clientSecret: { env: "QUAYSIDE_SECRET" },
      scope: "openid profile tides.read",
      ...changes,
    };
    // What is to be called is in the settings.
    const apis = { tidebook: { provider: "quayside", origin: practice.tidebook, sample: "/tides/today" } };
    await writeFile(settings, JSON.stringify({ origin, providers: { quayside }, apis }));
    const args = ["try", "quayside", "--settings", settings];
    const running = start(command, args, { env });
    const said = await running.waitFor("Waiting. Ctrl-C ends it.");
    const url = /(http:\S+\/authorize\?\S+)/.exec(said)?.[1] ?? "";
    const back = new URL(url).searchParams.get("redirect_uri") ?? "";
    const visitor = createVisitor();
    const page = await visitor.open(url).then(() => visitor.press("Maren"));
    const request = /name="request" value="([^"]+)"/.exec(page.text)?.[1] ?? "";
    const body = new URLSearchParams({ request, decision: "allow" });
    const decided = await visitor.fetch(`${practice.issuer}/authorize/decision`, { method: "POST", body });
    const location = decided.headers.get("location");
    const posted = [...(await decided.text()).matchAll(/name="(\w+)" value="([^"]*)"/g)].map(
      ([, name = "", value = ""]) => [name, value],
    );
    if (location === null) await fetch(back, { method: "POST", body: new URLSearchParams(posted) });
    else if (location.includes("#")) {
      expect(await (await fetch(back)).text()).toContain("location.hash");
      await fetch(back, {
        method: "POST",
        body: new URLSearchParams({ fragment: new URL(location).hash.slice(1) }),
      });
    } else await fetch(location);
    const { code, output } = await running.finished;
    expect([code, output]).toEqual([
      0,
      expect.stringContaining(`GET ${practice.tidebook}/tides/today → 200`),
    ]);
  });

  it("says that the person said no, with exit code 1", async () => {
    const { code, output } = await trySignIn("No, not now");
    expect([code, output]).toEqual([1, expect.stringContaining("The person said no")]);
  });

  it("ends cleanly with Ctrl-C, and frees its port", async () => {
    for (let round = 0; round < 2; round += 1) {
      const running = start(command, ["try", "quayside", "--env", "sandbox", "--settings", file], { env });
      await running.waitFor("Waiting. Ctrl-C ends it.");
      running.signal("SIGINT");
      const ended = await running.finished;
      expect(ended).toMatchObject({ code: 1, errors: "" });
      expect(ended.output).toContain("No answer came to");
    }
  });

  it("says so when the app itself is in the way, or the address is not on this machine", async () => {
    const first = start(command, ["try", "quayside", "--env", "sandbox", "--settings", file], { env });
    await first.waitFor("Waiting. Ctrl-C ends it.");
    const second = await run("try", "quayside", "--env", "sandbox");
    first.signal("SIGINT");
    await first.finished;
    expect([second.code, second.errors]).toEqual([2, expect.stringContaining("is in use. End the app")]);
    const away = join(folder, "away.json");
    await writeFile(away, (await readFile(file, "utf8")).replace(origin, "https://ferrywell.example"));
    const { code, errors } = await start(
      command,
      ["try", "quayside", "--env", "sandbox", "--settings", away],
      { env },
    ).finished;
    expect([code, errors]).toEqual([2, expect.stringContaining("not on this machine")]);
  });
});

describe("tenonsaw try, without a browser here", () => {
  it("signs in by a code on another device", async () => {
    const running = start(
      command,
      [
        "try",
        "quayside",
        "--device",
        "--env",
        "sandbox",
        "--settings",
        file,
        "--call",
        `${practice.tidebook}/tides/today`,
      ],
      { env },
    );
    const said = await running.waitFor("Waiting. Ctrl-C ends it.");
    const visitor = createVisitor();
    const user_code = /\b([B-Z]{4}-[B-Z]{4})\b/.exec(said)?.[1] ?? "";
    await visitor.post(`${practice.issuer}/device`, { user_code });
    await visitor.press("Zoë");
    await visitor.press("Yes");
    const { code, output } = await running.finished;
    expect([code, output]).toEqual([0, expect.stringContaining("Zoë Łukasińska-Ōta")]);
    expect(output).toContain("→ 200");
    expect(output).not.toMatch(/eyJ[\w-]+\.|only-for-practice/);
  });

  it("ends cleanly with Ctrl-C while it waits for the other device", async () => {
    const running = start(command, ["try", "quayside", "--device", "--env", "sandbox", "--settings", file], {
      env,
    });
    await running.waitFor("Waiting. Ctrl-C ends it.");
    running.signal("SIGINT");
    const { code, output, errors } = await running.finished;
    expect([code, errors]).toEqual([1, ""]);
    expect(output).toContain("grant.device-ended");
  });

  it("gets the app a token of its own, and says what it allows", async () => {
    const { code, output } = await run(
      "try",
      "quayside",
      "--client",
      "--env",
      "sandbox",
      "--call",
      `${practice.slipway}/status`,
    );
    expect([code, output]).toEqual([0, expect.stringMatching(/allows +slipway.status/)]);
    expect(output).toContain("→ 200");
    const json = await run(
      "try",
      "quayside",
      "--client",
      "--env",
      "sandbox",
      "--json",
      "--scope",
      "slipway.status",
    );
    expect(JSON.parse(json.output)).toMatchObject({ scope: "slipway.status", hasRefreshToken: false });
    const refused = await run("try", "quayside", "--client", "--env", "sandbox", "--scope", "fish");
    expect([refused.code, refused.errors]).toEqual([2, expect.stringContaining("invalid_scope")]);
  });
});

describe("tenonsaw call --store", () => {
  it("calls with what a signed-in person's connection keeps, and renews it as the app would", async () => {
    const { openSqliteStore } = await import("tenonsaw/stores/sqlite");
    const database = join(folder, "app.db");
    const app = await startApp(practice, { keys: env.TENONSAW_KEYS }, await openSqliteStore(database));
    const visitor = createVisitor();
    await visitor.open(`${app.origin}/sign-in/to/quayside`);
    await visitor.press("Maren");
    await visitor.press("Yes");
    await app.stop();
    const call = (...args: readonly string[]) =>
      run("call", "tidebook", "/tides/today", "--env", "sandbox", "--store", database, ...args);
    const { code, output } = await call("--person", "maren");
    expect([code, output]).toEqual([0, expect.stringContaining("Ferrywell landing")]);
    expect(output).toContain("Bearer (hidden, allows openid profile email offline_access tides.read)");
    expect(output).not.toMatch(/eyJ[\w-]+\./);
    const other = await call("--person", "Ib");
    expect([other.code, other.errors]).toEqual([2, expect.stringContaining("one of Maren Holt")]);
    const nowhere = await run("call", "tidebook", "--env", "sandbox", "--store", join(folder, "none.db"));
    expect([nowhere.code, nowhere.errors]).toEqual([2, expect.stringContaining("is not there")]);
    practice.register({ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] });
  });
});

describe("tenonsaw explain --against", () => {
  const key = createTestKey();
  const now = Math.floor(Date.now() / 1000);
  const against = async (change: object, typ = "at+jwt", api = "tidebook", ...more: readonly string[]) => {
    const harbour = { issuer: "http://localhost:4800/{organisation}", clientId: "ferrywell" };
    const deviations = { tenants: { placeholder: "{organisation}", admitted: "any" } };
    const cranes = { provider: "harbour", origin: "http://localhost:4800", tokenClaims: { format: 2 } };
    const claims = {
      iss: practice.issuer,
      sub: "qs-10231",
      aud: practice.tidebook,
      exp: now + 17_940,
      iat: now - 60,
      jti: "token-1",
      client_id: "ferrywell",
      scope: "tides.read",
    };
    const input = await key.sign({ ...claims, ...change }, { kid: "key-1", typ });
    const local = join(folder, "against.json");
    const text = (await readFile(file, "utf8"))
      .replace("// Ferrywell", "")
      .replace('"hush-hush"', '{ "env": "LIVE_SECRET" }');
    const settings = JSON.parse(text) as { providers: object; apis: object };
    const providers = { ...settings.providers, harbour: { ...harbour, deviations } };
    await writeFile(local, JSON.stringify({ ...settings, providers, apis: { ...settings.apis, cranes } }));
    const args = ["explain", "--against", api, "--settings", local, "--env", "sandbox", ...more];
    const { code, output, errors } = await start(command, args, { input }).finished;
    return { code, text: (output + errors).replace(/\s*\n\s+/g, " ") };
  };

  it("says that an API would take a token that is meant for it", async () => {
    expect(await against({})).toMatchObject({
      code: 0,
      text: expect.stringContaining("tidebook: would be accepted") as string,
    });
  });

  it.each<[string, () => object, RegExp, string?]>([
    [
      "another API's audience",
      () => ({ aud: practice.slipway }),
      /guard\.audience-mismatch: .*which is the API slipway; expected/,
    ],
    [
      "another environment's issuer",
      () => ({ iss: "https://id.quayside.example" }),
      /the issuer of the environment production/,
    ],
    ["a token without a type", () => ({}), /does not say that it is an access token/, "JWT"],
    [
      "an ID token",
      () => ({ nonce: "n", aud: "ferrywell" }),
      /because +guard\.kind-refused: The token is an ID token(?!.*because)/,
      "JWT",
    ],
    [
      "one that expired",
      () => ({ exp: now - 11_000 }),
      /guard\.expired: .*exp \d+, 11\d{3} s ago, of a token made for/,
    ],
  ])("names the reason: %s", async (_, change, reason, typ) => {
    const { code, text } = await against(change(), typ);
    expect(code).toBe(1);
    expect(text).toMatch(/would be refused/);
    expect(text).toMatch(reason);
  });

  it("compares the scope with what the call takes, where that is said", async () => {
    expect((await against({})).text).toContain("name it with --scope");
    expect((await against({}, "at+jwt", "tidebook", "--scope", "tides.read")).code).toBe(0);
    const { code, text } = await against({}, "at+jwt", "tidebook", "--scope", "tides.read tides.write");
    expect(code).toBe(1);
    expect(text).toContain('scopes "tides.read"; lacking "tides.write"');
  });

  it("tells a token of another format, and a tenant's issuer from a stranger's", async () => {
    const good = { iss: "http://localhost:4800/rowing-club", aud: "http://localhost:4800", format: 2 };
    expect((await against(good, "at+jwt", "cranes")).code).toBe(0);
    const old = await against({ ...good, aud: "harbour-cranes", format: 1 }, "JWT", "cranes");
    expect(old.text).toContain('Received format "1"; expected a token with format 2');
    const stranger = await against(
      { ...good, iss: "http://localhost:4800.evil.example/x" },
      "at+jwt",
      "cranes",
    );
    expect(stranger.text).toContain('expected "http://localhost:4800/{organisation}"');
  });

  it("says which APIs there are", async () => {
    expect(await against({}, "at+jwt", "crane")).toMatchObject({
      code: 2,
      text: expect.stringContaining("tidebook, slipway") as string,
    });
  });
});

describe("tenonsaw call", () => {
  it("calls as the app itself and shows request and answer, but no token", async () => {
    const { code, output } = await run(
      "call",
      "slipway",
      "/status",
      "--env",
      "sandbox",
      "--header",
      "x-boat: 7",
    );
    expect(code).toBe(0);
    for (const text of [
      "x-boat: 7",
      "Bearer (hidden, allows slipway.status)",
      "Answer 200",
      '"gate":"open"',
      '"asked":"ferrywell"',
    ]) {
      expect(output).toContain(text);
    }
    expect(output).not.toMatch(/eyJ[\w-]+\.|only-for-practice/);
    const json = await run("call", "slipway", "/status", "--env", "sandbox", "--json");
    expect(JSON.parse(json.output)).toMatchObject({ status: 200 });
  });

  it.each([
    [["slipway", "/nowhere"], 1, /Answer 404/],
    [["tidebook", "/tides/today"], 2, /connection\.no-client-scope/],
    [["slipway", "//evil.example/"], 2, /connection\.other-origin/],
    [["crane"], 2, /one of tidebook, slipway/],
    [["slipway", "--header", "no colon"], 2, /a name, a colon and a value/],
    [["slipway", "--header", "x-boat: 7\nx-oar: 8"], 2, /on one line/],
    [["slipway", "--header", "Authorization: Bearer mine"], 2, /it is what this command calls with/],
    [["slipway", "--method", "TRACE"], 2, /such as GET, POST, PUT, PATCH or DELETE/],
    [["slipway", "--body", "one"], 2, /GET takes no body; name the method/],
    [["slipway", "/status", "--method", "post", "--body", "{}"], 1, /POST http:\S+\/status[\s\S]*Answer 4/],
  ])("%j ends with %i", async (args, expected, message) => {
    const { code, output, errors } = await run("call", ...args, "--env", "sandbox");
    expect(code).toBe(expected);
    expect(output + errors).toMatch(message);
  });
});

describe("an API that is down", () => {
  it("is called by its name, not by a stack of calls", async () => {
    const down = join(folder, "api-down.json");
    const nobody = `http://localhost:${await freePorts(1)}`;
    await writeFile(down, (await readFile(file, "utf8")).replaceAll(practice.slipway, nobody));
    const args = ["call", "slipway", "/status", "--env", "sandbox", "--settings", down];
    const { code, errors } = await start(command, args, { env }).finished;
    expect(code).toBe(2);
    expect(errors).toContain(`platform.unreachable`);
    expect(errors).toContain("ECONNREFUSED");
    expect(errors).not.toMatch(/^ +at \w+ \(/m);
  });
});

describe("an option that would be left out", () => {
  it.each([
    [["call", "slipway", "--person", "Maren"], /'--person <who>' counts only with '--store <place>'/],
    [["call", "slipway", "--account", "7"], /'--account <id>' counts only with '--store <place>'/],
    [["check", "--scope", "tides.read"], /'--scope <scopes>' counts only with '--api <name>'/],
    [["check", "quayside", "--api", "tidebook"], /one at a time/],
    [["check", "--offline", "--api", "tidebook"], /'--api <name>' cannot be used with option '--offline'/],
    [["check", "--certificate-key", "a.pem"], /'--certificate-key <file>' counts only with '--certificate/],
    [["sheet", "--secret-file", "a.secret"], /'--secret-file <file>' counts only with '--register'/],
    [["sheet", "--register", "--format", "text"], /cannot be used with option '--register'/],
    [["explain", "x", "--scope", "tides.read"], /'--scope <scopes>' counts only with '--against <api>'/],
    [["explain", "x", "--env", "sandbox"], /only with '--settings <file>' or '--against <api>'/],
    [["keys", "rotate", "--public", "a.keys"], /--public prints, and rotates nothing/],
  ])("is refused: %j", async (args, message) => {
    const { code, output, errors } = await start(command, args, { env, cwd: folder }).finished;
    expect([code, output]).toEqual([2, ""]);
    expect(errors).toMatch(message);
  });
});

describe("a file that is not what was meant", () => {
  it.each([
    [["check", "--settings", "nowhere.json"], "The settings file is not there", "tenonsaw init"],
    [["check", "--settings", "."], ".: EISDIR", "Name the file in the folder"],
    [["keys", "--public", "nowhere.keys"], "A file is not there (cli.file-unreadable)", "Check the path"],
    [["keys", "rotate", "--out", "."], "A file cannot be read", "Name the file in the folder"],
    [["keys", "--out", "nowhere/a.keys"], "A file cannot be written", "Make the folder"],
    [["keys", "--out", "."], "is there already", "Name another file"],
    [["init", "--framework", "node", "--folder", "text.keys/x"], "text.keys/x: ENOTDIR", "check the path"],
    // Where no folder can be made, Node's own way to make several never ends.
    [["init", "--framework", "node", "--folder", "/proc/x/y"], "cli.file-unwritable", "path"],
    [["keys", "rotate", "--out", "text.keys"], "key 1: 5 characters", "Make one with"],
  ])("is named with what to do: %j", async (args, what, remedy) => {
    await writeFile(join(folder, "text.keys"), "hello");
    const { code, errors } = await start(command, args, { env, cwd: folder }).finished;
    expect([code, errors]).toEqual([2, expect.stringContaining(what)]);
    expect(errors).toContain(remedy);
    expect(errors).not.toMatch(/^ +at \w+ \(/m);
  });
});

describe("an API that never ends its answer", () => {
  it("is shown as far as anybody reads, and that it went on", async () => {
    const endless = createServer((_, response) => {
      const more = setInterval(() => response.write("high water ".repeat(10_000)), 1);
      response.on("close", () => clearInterval(more));
    });
    await new Promise<void>((resolve) => endless.listen(0, "localhost", resolve));
    const api = `http://localhost:${(endless.address() as AddressInfo).port}`;
    const settings = join(folder, "api-endless.json");
    await writeFile(settings, (await readFile(file, "utf8")).replaceAll(practice.slipway, api));
    const args = ["call", "slipway", "/status", "--env", "sandbox", "--settings", settings];
    const { code, output } = await start(command, args, { env }).finished;
    expect([code, output.length > 1_000_000]).toEqual([0, true]);
    expect(output).toMatch(/… and so on: more than is shown, or it did not end within 30 seconds\.$/m);
    const json = JSON.parse((await start(command, [...args, "--json"], { env }).finished).output) as object;
    expect(json).toMatchObject({ status: 200, isWhole: false });
    endless.closeAllConnections();
    endless.close();
  });
});

describe("tenonsaw keys", () => {
  it("makes a key that nobody else can read, never over another, and has a new one open before it seals", async () => {
    const out = join(folder, "ferrywell.keys");
    const keys = (...args: readonly string[]) => start(command, ["keys", "--out", out, ...args]).finished;
    const first = await keys("--json");
    expect((await stat(out)).mode & 0o777).toBe(0o600);
    const text = (await readFile(out, "utf8")).trim();
    expect(first.output).not.toContain(text);
    expect((await keys()).code).toBe(2);
    expect((await readFile(out, "utf8")).trim()).toBe(text);
    const { current } = JSON.parse(first.output) as { current: string };
    await chmod(out, 0o644);
    const { next, ...rotated } = JSON.parse((await keys("rotate", "--json")).output) as { next: string };
    expect(rotated).toEqual({ file: out, current, retired: [] });
    const both = (await readFile(out, "utf8")).trim();
    expect(both.split(",")[0]).toBe(text);
    const promoted = JSON.parse((await keys("promote", "--json")).output) as object;
    expect(promoted).toEqual({ file: out, current: next, retired: [current] });
    expect((await readFile(out, "utf8")).trim().split(",")).toEqual(both.split(",").toReversed());
    // Whichever two of the three editions run side by side, each opens what the other seals.
    const tools = createTools();
    const [one, two, three] = await Promise.all(
      [text, both, both.split(",").toReversed().join(",")].map((each) => readKeyRing(tools, each)),
    );
    expect(one!.keys.has(two!.currentKeyId) && two!.keys.has(three!.currentKeyId)).toBe(true);
    expect(three!.keys.has(two!.currentKeyId)).toBe(true);
    expect((await keys("rotate")).output).toContain("keys promote --out");
    expect((await keys("promote", "--signing", "ES256")).code).toBe(2);
    // A new file in the place of the old one: whole, and readable by its owner, whatever that one was.
    expect((await stat(out)).mode & 0o777).toBe(0o600);
    expect((await readdir(folder)).filter((name) => name.includes(".new"))).toEqual([]);
  });

  it("makes keys to sign with, and prints their public parts only", async () => {
    const out = join(folder, "client.keys");
    const keys = (...args: readonly string[]) => start(command, ["keys", ...args]).finished;
    const first = await keys("--signing", "ES256", "--out", out, "--json");
    expect((await stat(out)).mode & 0o777).toBe(0o600);
    const published = JSON.parse(first.output) as { keys: { kid: string; alg: string; d?: string }[] };
    expect(published.keys).toEqual([expect.objectContaining({ alg: "ES256", kty: "EC", use: "sig" })]);
    expect(first.output).not.toContain('"d"');
    const rotated = await keys("--signing", "EdDSA", "--out", out, "--rotate", "--json");
    expect((JSON.parse(rotated.output) as typeof published).keys.map(({ alg }) => alg)).toEqual([
      "EdDSA",
      "ES256",
    ]);
    const shown = await keys("--public", out);
    expect(shown.output).toContain(published.keys[0]?.kid);
    expect(shown.output).not.toContain('"d"');
    const decrypting = await keys("--decryption", "RSA-OAEP-256", "--out", out, "--rotate");
    expect(decrypting.output).toContain(
      "holds 2 to sign with, of which the first signs, and 1 to decrypt with",
    );
    expect((await keys("--public", out, "--json")).output).toMatch(/"use": "enc",\s+"alg": "RSA-OAEP-256"/);
    expect((await keys("--signing", "RS1", "--out", out)).code).toBe(2);
    expect((await keys("--signing", "ES256", "--decryption", "ECDH-ES", "--out", out)).code).toBe(2);
    expect((await keys()).errors).toContain("--out <file> is needed");
  });

  it("makes keys that a provider accepts: registered by request, published by the app", async () => {
    const out = join(folder, "client.keys");
    const settings = join(folder, "signing.json");
    const provider = (rest: object) => ({
      origin,
      keys: { env: "TENONSAW_KEYS" },
      providers: {
        quayside: { issuer: practice.issuer, scope: "openid", clientKeys: { file: out }, ...rest },
      },
      apis: { slipway: { provider: "quayside", origin: practice.slipway, clientScope: "slipway.status" } },
    });
    await writeFile(settings, JSON.stringify(provider({ clientId: "none-yet" })));
    const sheet = await start(command, ["sheet", "--settings", settings], { env }).finished;
    expect(sheet.output).toMatch(new RegExp(`Key set URL +${origin}/sign-in/keys`));
    expect(sheet.output).toMatch(/Client authentication +private_key_jwt/);
    const registered = await start(
      command,
      ["sheet", "quayside", "--register", "--json", "--settings", settings],
      { env, cwd: folder },
    ).finished;
    const { clientId, clientSecret } = JSON.parse(registered.output) as {
      clientId: string;
      clientSecret?: object;
    };
    expect(clientSecret).toBeUndefined();
    await writeFile(settings, JSON.stringify(provider({ clientId })));
    const checked = await start(command, ["check", "--all", "--settings", settings], { env }).finished;
    expect(checked.output).toMatch(/client keys +2, the first signs with EdDSA/);
    expect(checked.output).toContain("client ID and private_key_jwt are accepted");
    const called = await start(command, ["call", "slipway", "/status", "--settings", settings], { env })
      .finished;
    expect([called.code, called.output]).toEqual([0, expect.stringContaining("Answer 200")]);
  });
});

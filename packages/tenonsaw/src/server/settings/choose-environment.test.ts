import { describe, expect, it } from "vitest";
import { problemOf } from "../../../../../tests/support/fake-world.js";
import { chooseEnvironment } from "./choose-environment.js";
import { readSettingsText } from "./settings-text.js";

const text = `{
  // What both share.
  "providers": { "quayside": { "scope": "openid profile", "deviations": { "tokenTypeAbsent": true } } },
  "apis": { "tidebook": { "provider": "quayside" } },
  "environment": "sandbox",
  "environments": {
    "sandbox": {
      "origin": "http://localhost:5173",
      "providers": {
        "quayside": { "issuer": "http://localhost:4600", "clientId": "ferrywell-sandbox", "clientSecret": { "env": "SANDBOX_SECRET" } },
      },
      "apis": { "tidebook": { "origin": "http://localhost:4700" } },
    },
    "production": {
      "production": true,
      "origin": "https://ferrywell.example",
      "providers": {
        "quayside": { "issuer": "https://id.quayside.example", "clientId": "ferrywell", "clientSecret": { "file": "/run/secrets/quayside" } },
      },
      "apis": { "tidebook": { "origin": "https://tidebook.example" } },
    },
  },
}`;
const read = (changed = text, environment?: string) =>
  readSettingsText(changed, "tenonsaw.config.json", environment);

describe("environments", () => {
  it("lay their own values over what all share, the whole set by one switch", () => {
    const sandbox = read();
    expect(sandbox).toMatchObject({ environment: "sandbox", isProduction: false, warnings: [] });
    expect(sandbox.settings.providers["quayside"]).toMatchObject({
      scope: "openid profile",
      clientId: "ferrywell-sandbox",
      deviations: { tokenTypeAbsent: true },
    });
    const production = read(text, "production");
    expect(production).toMatchObject({ environment: "production", isProduction: true });
    const tidebook = { provider: "quayside", origin: "https://tidebook.example" };
    expect(production.settings.apis).toMatchObject({ tidebook });
    const secret = { file: "/run/secrets/quayside" };
    expect(production.settings.providers["quayside"]?.clientSecret).toEqual(secret);
  });

  it("say which there are when another is asked for, and that there are none when there are none", async () => {
    const { findings } = await problemOf(() => read(text, "prodution"));
    expect(findings?.[0]?.message).toContain('did you mean "production"?');
    const unset = text.replace('"environment": "sandbox",', "");
    expect((await problemOf(() => read(unset))).findings?.[0]?.path).toBe("environment");
    expect((await problemOf(() => chooseEnvironment({}, "sandbox"))).findings?.[0]?.path).toBe(
      "environments",
    );
  });

  it("report values of one that stand in another", () => {
    const mixed = text
      .replace('"clientId": "ferrywell"', '"clientId": "ferrywell-sandbox"')
      .replace("https://tidebook.example", "http://localhost:4700");
    expect(read(mixed, "production").warnings).toEqual([
      {
        path: "providers.quayside.clientId",
        message: "is the same as in sandbox: one of the two is probably a mix-up",
        place: "tenonsaw.config.json:18:64",
      },
      expect.objectContaining({ path: "apis.tidebook.origin" }),
    ]);
  });

  it("warn of a literal secret, refuse it in production, and never show it", async () => {
    const literal = text
      .replace('{ "env": "SANDBOX_SECRET" }', '"hush-hush"')
      .replace('{ "file": "/run/secrets/quayside" }', '"hush-hush-2"');
    const { warnings } = read(literal);
    expect(warnings).toMatchObject([
      { path: "providers.quayside.clientSecret", place: "tenonsaw.config.json:10:91" },
    ]);
    const problem = await problemOf(() => read(literal, "production"));
    expect(problem.findings?.map(({ path }) => path)).toEqual(["providers.quayside.clientSecret"]);
    expect(JSON.stringify([warnings, problem])).not.toContain("hush");
    const showing = text.replace('"production": true,', '"production": true, "development": true,');
    expect((await problemOf(() => read(showing, "production"))).findings?.[0]?.path).toBe("development");
  });
});

describe("a settings file", () => {
  it("is told its mistakes all at once, each with file, line and column, and the name that was meant", async () => {
    const broken = text
      .replace('"scope"', '"scpoe"')
      .replace('"origin": "http://localhost:5173"', '"origin": "http://localhost:5173/"')
      .replace('"tokenTypeAbsent": true', '"tokenTypeAbsent": "yes"');
    const { received, findings } = await problemOf(() => read(broken));
    expect(received).toBe("tenonsaw.config.json: 3 mistakes");
    const places = Object.fromEntries(findings?.map(({ path, place }) => [path, place]) ?? []);
    expect(places).toEqual({
      "environments.sandbox.origin": "tenonsaw.config.json:8:7",
      "providers.quayside.deviations.tokenTypeAbsent": "tenonsaw.config.json:3:75",
      "providers.quayside.scpoe": "tenonsaw.config.json:3:32",
    });
    expect(JSON.stringify(findings)).toContain('did you mean \\"scope\\"?');
  });

  it.each([
    [
      "something missing",
      '{ "origin": "http://localhost:5173", "providers": { "quayside": { "clientId": "x" } } }',
      "providers.quayside.issuer",
      "f:1:53",
    ],
    ["no JSON", '{ "origin": hush }', "(file)", "f:1:13"],
    ["an open brace", '{\n "origin": "x"', "(file)", "f:2:15"],
    ["nothing at all", "", "(file)", "f:1:1"],
    ["a list", "[]", "(file)", "f:1:1"],
    ["a member twice", '{ "a": [{ "keys": "hush",\n "keys": "hush-hush" }] }', "a.0.keys", "f:2:2"],
  ])("with %s is told where", async (_, broken, path, place) => {
    const problem = await problemOf(() => readSettingsText(broken, "f"));
    expect(problem.findings?.[0]).toMatchObject({ path, place });
    expect(JSON.stringify(problem)).not.toContain("hush");
  });
});

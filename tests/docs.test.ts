import { readdir, readFile, stat } from "node:fs/promises";
import { fileURLToPath } from "node:url";
import { describe, expect, it } from "vitest";
import { catalogue, describeProblem, type CatalogueEntry, type ProblemCode } from "tenonsaw/problem";
import { root, start } from "./support/processes.js";

async function testSources(folder: string): Promise<string> {
  const names = (await readdir(root + folder, { recursive: true })).filter((name) => name.endsWith(".ts"));
  return (await Promise.all(names.map((name) => readFile(`${root}${folder}/${name}`, "utf8")))).join("\n");
}

async function sources(folder: string): Promise<string> {
  const files = await readdir(root + folder, { recursive: true });
  const names = files.filter(
    (name) => name.endsWith(".ts") && !name.endsWith(".test.ts") && !name.endsWith("catalogue.ts"),
  );
  return (await Promise.all(names.map((name) => readFile(`${root}${folder}/${name}`, "utf8")))).join("\n");
}

describe("the documentation", () => {
  it("is what the sources say, of every name that is exported as well", async () => {
    const { code, errors } = await start("scripts/docs.mjs", ["--check"]).finished;
    expect(errors).toBe("");
    expect(code).toBe(0);
  });

  it("names a test for every check", async () => {
    const rows = (await readFile(`${root}docs/checks.md`, "utf8"))
      .split("\n")
      .filter((line) => /^\| [A-Z]/.test(line));
    expect(rows.length).toBeGreaterThan(70);
    expect(rows.filter((row) => /\|\s*\|$/.test(row))).toEqual([]);
  });

  it("names in the threat model tests that there are, one for every attack", async () => {
    const rows = (await readFile(`${root}docs/threat-model.md`, "utf8"))
      .split("\n")
      .filter((line) => line.startsWith("| ") && !line.startsWith("| ---") && !line.startsWith("| Attack"));
    expect(rows.length).toBeGreaterThan(45);
    for (const row of rows) {
      const [, file = "", title = ""] = /`([^`]+\.test\.ts)`: (.+?)\s*\|$/.exec(row) ?? [];
      const path = ["", "tests/", "packages/tenonsaw/src/"].map((folder) => root + folder + file);
      const texts = await Promise.all(path.map((each) => readFile(each, "utf8").catch(() => "")));
      expect(
        texts.some((text) => title !== "" && text.includes(`"${title}"`)),
        row,
      ).toBe(true);
    }
  });

  it("names in the reliability table tests that there are", async () => {
    const titles = [
      ...(await readFile(`${root}docs/reliability.md`, "utf8")).matchAll(/\b_([^_|]{20,}?)_(?= |$|\|)/gm),
    ];
    expect(titles.length).toBeGreaterThanOrEqual(12);
    const files = await Promise.all(["tests", "packages/tenonsaw/src"].map(testSources));
    for (const [, title = ""] of titles)
      expect(files.join("\n"), title).toContain(`"${title.replace(/\s+/g, " ")}"`);
  });

  it("begins with a page that is read at one go", async () => {
    expect((await stat(`${root}README.md`)).size).toBeLessThanOrEqual(10_000);
  });

  it("links to no file that is not there", async () => {
    const pages = [
      "README.md",
      "CONTRIBUTING.md",
      "SECURITY.md",
      ...(await readdir(`${root}docs`)).filter((name) => name.endsWith(".md")).map((name) => `docs/${name}`),
    ];
    for (const page of pages) {
      const text = await readFile(root + page, "utf8");
      for (const [, target = "", heading] of text.matchAll(
        /\]\((?!https?:|mailto:)([^)#\s]*)(?:#([^)]+))?\)/g,
      )) {
        const path = target === "" ? root + page : fileURLToPath(new URL(target, `file://${root}${page}`));
        await expect(stat(path), `${page} links to ${target}`).resolves.toBeDefined();
        if (heading === undefined || !path.endsWith(".md")) continue;
        const headings = (await readFile(path, "utf8")).matchAll(/^#+ (.*)$/gm);
        const anchors = [...headings].map(([, title = ""]) =>
          title
            .toLowerCase()
            .replace(/[^\p{L}\p{N}\s_-]/gu, "")
            .replace(/\s/g, "-"),
        );
        expect(anchors, `${page} links to ${target}#${heading}`).toContain(heading);
      }
    }
  });
});

describe("the problem catalogue", () => {
  it("holds no problem that nothing can meet", async () => {
    const code = (await sources("packages/tenonsaw/src")) + (await sources("packages/cli/src"));
    const unused = (Object.keys(catalogue) as ProblemCode[]).filter((each) => !code.includes(`"${each}"`));
    expect(unused).toEqual([]);
    const entries: readonly CatalogueEntry[] = Object.values(catalogue);
    const causes = entries.flatMap(({ causes: each = {} }) => Object.keys(each));
    expect(causes.filter((each) => !code.includes(`"${each}"`))).toEqual([]);
  });

  it("says of each what to change, and on which side", () => {
    for (const [code, entry] of Object.entries<CatalogueEntry>(catalogue)) {
      expect(code).toMatch(/^[a-z0-9]+\.[a-z0-9-]+$/);
      expect(entry.here ?? entry.atProvider, code).toBeTruthy();
      // A cause that says what to change is not told with what another one would need.
      for (const [because, { here, atProvider }] of Object.entries(entry.causes ?? {})) {
        const told = describeProblem(code as ProblemCode, { because });
        const own = here ?? atProvider;
        const both = own === undefined ? [entry.here, entry.atProvider] : [here, atProvider];
        expect([told.here, told.atProvider], `${code} ${because}`).toEqual(both);
      }
    }
  });
});

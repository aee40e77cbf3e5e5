import { afterEach, describe, expect, it, vi } from "vitest";
import { loadPart, partOnce } from "./load-part.js";

describe("a part that cannot be loaded", () => {
  afterEach(() => vi.unstubAllGlobals());

  it.each([
    ["on a server", {}, undefined, "Deploy every file that the build wrote"],
    ["on a page", { location: {}, navigator: { onLine: true } }, "page", "Reload the page"],
    ["without a network", { location: {}, navigator: { onLine: false } }, "offline", "try again"],
  ])("is a problem that says what to do: %s", async (_, globals: object, because, remedy) => {
    for (const [name, value] of Object.entries(globals)) vi.stubGlobal(name, value);
    const gone = import(/* @vite-ignore */ new URL("gone.js", import.meta.url).href);
    const { problem } = (await loadPart(gone).catch((error: unknown) => error)) as {
      readonly problem: { readonly here: string; readonly received: string };
    };
    expect(problem).toMatchObject({ code: "platform.part-not-loaded", ...(because && { because }) });
    expect("because" in problem).toBe(because !== undefined);
    expect(problem.here).toContain(remedy);
    expect(problem.received).toContain("gone.js");
  });

  it("is asked for again, and what could be loaded is not", async () => {
    let asked = 0;
    const part = partOnce(async () => {
      asked += 1;
      if (asked === 1) throw new Error("gone");
      return asked;
    });
    await expect(part()).rejects.toMatchObject({ problem: { code: "platform.part-not-loaded" } });
    expect([await part(), await part()]).toEqual([2, 2]);
  });
});

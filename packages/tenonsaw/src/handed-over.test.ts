import { expect, it } from "vitest";
import * as core from "./index.js";

/** What code without types hands over: nothing, what was not waited for, settings, a text. */
const hands: readonly (readonly unknown[])[] = [
  [],
  [undefined, undefined, undefined],
  [Promise.resolve({})],
  [{ issuer: "https://id.quayside.example", clientId: "ferrywell" }],
  [core.createPlatform(), "a text", "another"],
  [{ tools: { platform: core.createPlatform() } }, {}, {}],
];
const functions = Object.entries(core).filter(
  ([name, each]) => typeof each === "function" && /^[a-z]/.test(name) && !["createPlatform"].includes(name),
);

it.each(functions)(
  "%s says what it was handed, in place of an error of JavaScript's own",
  async (_, each) => {
    for (const hand of hands) {
      const call = async () => (each as (...given: readonly unknown[]) => unknown)(...hand);
      await call().catch((error: unknown) => {
        expect(error).toBeInstanceOf(core.ProblemError);
      });
    }
  },
);

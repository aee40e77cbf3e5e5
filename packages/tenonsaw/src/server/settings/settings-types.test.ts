import { describe, expectTypeOf, it } from "vitest";
import type * as v from "valibot";
import { createSignIn, type SettingsData } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import type { OAuth1Settings } from "../../oauth1/index.js";
import type { oauth1Settings } from "../../oauth1/index.js";
import type { providerSettings } from "../../provider/index.js";
import { type ProviderSettings } from "../../provider/index.js";
import type { environmentSettings } from "./settings.js";

type Frozen<Value> = Value extends (...parameters: never[]) => unknown
  ? Value
  : Value extends object
    ? { readonly [Member in keyof Value]: Frozen<Value[Member]> }
    : Value;
type Taken<Schema extends v.GenericSchema> = Frozen<v.InferInput<Schema>>;

const quayside = { issuer: "https://id.quayside.example", clientId: "ferrywell" };
const settings = {
  origin: "https://ferrywell.example",
  keys: "k".repeat(43),
  store: createMemoryStore(),
  providers: { quayside },
  apis: { tidebook: { provider: "quayside" as const, origin: "https://tidebook.example" } },
};

describe("the types of the settings", () => {
  it("are those that the schema takes, member by member", () => {
    expectTypeOf<Taken<typeof providerSettings>>().toExtend<ProviderSettings>();
    expectTypeOf<ProviderSettings>().toExtend<Taken<typeof providerSettings>>();
    expectTypeOf<keyof ProviderSettings>().toEqualTypeOf<keyof Taken<typeof providerSettings>>();
    expectTypeOf<Taken<typeof oauth1Settings>>().toExtend<OAuth1Settings>();
    expectTypeOf<OAuth1Settings>().toExtend<Taken<typeof oauth1Settings>>();
    expectTypeOf<keyof OAuth1Settings>().toEqualTypeOf<keyof Taken<typeof oauth1Settings>>();
    expectTypeOf<keyof SettingsData>().toEqualTypeOf<keyof Taken<typeof environmentSettings>>();
    expectTypeOf<SettingsData>().toExtend<Taken<typeof environmentSettings>>();
  });

  it("know the names of providers and APIs, and what has to be there", () => {
    const misspelt = async () => {
      const signIn = await createSignIn(settings);
      await signIn.fetch("tidebook", "/");
      // @ts-expect-error -- no such API
      await signIn.fetch("tidebok", "/");
      const session = await signIn.session(new Request("https://ferrywell.example"));
      await session?.connection("quayside");
      // @ts-expect-error -- no such provider
      await session?.connection("quaside");
      // @ts-expect-error -- no such API
      await session?.fetch("tidebok", "/");
      // @ts-expect-error -- no such provider
      signIn.protect(() => new Response(), { provider: "quaside" });
      // @ts-expect-error -- neither origin nor providers
      await createSignIn({ store: createMemoryStore() });
      const apis = { tidebook: { provider: "quaside" as const, origin: "https://tidebook.example" } };
      // @ts-expect-error -- an API of a provider that there is not
      await createSignIn({ ...settings, apis });
      const inEnvironments = await createSignIn({ store: settings.store, environments: { here: settings } });
      await inEnvironments.fetch("whatever", "/");
    };
    expectTypeOf(misspelt).returns.resolves.toBeVoid();
  });
});

// Beginning a sign-in while ten thousand others are open, against beginning one with few: in one process, without HTTP.
import { createSignIn } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createPlatform } from "tenonsaw/platform";
import { medianRatio } from "./machine.mjs";
import { sealingKey } from "../scripts/sealing-key.mjs";

const [issuer, origin] = ["https://id.quayside.example", "https://ferrywell.example"];
const metadata = {
  issuer,
  authorization_endpoint: `${issuer}/authorize`,
  token_endpoint: `${issuer}/token`,
  jwks_uri: `${issuer}/keys`,
};

export async function measureOpenAttempts(rounds = 9) {
  const store = createMemoryStore();
  const signIn = await createSignIn({
    origin,
    keys: sealingKey,
    store,
    providers: { quayside: { issuer, clientId: "ferrywell" } },
    platform: createPlatform({ fetch: async () => Response.json(metadata) }),
  });
  const begin = async (count) => {
    const startedAt = performance.now();
    for (let index = 0; index < count; index += 1)
      await signIn.handle(new Request(`${origin}/sign-in/to/quayside`));
    return performance.now() - startedAt;
  };
  await begin(5000);
  const [few, many] = [[], []];
  let bytes = 0;
  for (let round = 0; round < rounds; round += 1) {
    // Twice: attempts leave marks, which are over as well.
    for (let turn = 0; turn < 2; turn += 1) await store.sweep(Infinity, Infinity);
    globalThis.gc?.();
    for (let batch = 0; batch < 5; batch += 1) few.push(await begin(200));
    globalThis.gc?.();
    const before = process.memoryUsage().heapUsed;
    await begin(10_000);
    globalThis.gc?.();
    bytes = (process.memoryUsage().heapUsed - before) / 10_000;
    for (let batch = 0; batch < 5; batch += 1) many.push(await begin(200));
  }
  return { time: medianRatio(many, few), bytesEach: Math.round(bytes) };
}

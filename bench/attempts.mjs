// Beginning a sign-in while ten thousand others are open, against beginning one with few: in one process, without HTTP.
import { createSignIn } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
import { createPlatform } from "tenonsaw/platform";
import { median, rounded } from "./machine.mjs";

const [issuer, origin] = ["https://id.quayside.example", "https://ferrywell.example"];
const metadata = {
  issuer,
  authorization_endpoint: `${issuer}/authorize`,
  token_endpoint: `${issuer}/token`,
  jwks_uri: `${issuer}/keys`,
};

export async function measureOpenAttempts(rounds = 5) {
  const store = createMemoryStore();
  const signIn = await createSignIn({
    origin,
    keys: Buffer.alloc(32, 1).toString("base64url"),
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
  await begin(3000);
  const ratios = [];
  let bytes = 0;
  for (let round = 0; round < rounds; round += 1) {
    await store.sweep(Infinity, Infinity);
    const few = await begin(1000);
    globalThis.gc?.();
    const before = process.memoryUsage().heapUsed;
    await begin(10_000);
    globalThis.gc?.();
    bytes = (process.memoryUsage().heapUsed - before) / 10_000;
    ratios.push((await begin(1000)) / few);
  }
  return { time: rounded(median(ratios)), bytesEach: Math.round(bytes) };
}

// The app under load, in a process of its own, so that what it takes up is its own.
import { startAppUnderLoad } from "../scripts/app-under-load.mjs";

const { origin, store, events } = await startAppUnderLoad();
process.on("message", async () => {
  globalThis.gc?.();
  const { heapUsed, rss } = process.memoryUsage();
  const sessions = (await store.findSessions({})).length;
  process.send({ heapUsed, rss, events, sessions });
});
process.on("disconnect", () => process.exit(0));
process.send({ origin });

// The app that is attacked, in a process of its own, so that what it takes up is its own.
import { monitorEventLoopDelay } from "node:perf_hooks";
import { startAppUnderLoad } from "../scripts/app-under-load.mjs";

// A write beyond the limit of a file is an error like that of a full disk, and not the end of the process.
process.on("SIGXFSZ", () => undefined);

const { origin, events } = await startAppUnderLoad(
  { proxies: { header: "forwarded", addresses: ["10.0.0.1"] } },
  { timeoutSeconds: 2 },
);
const delay = monitorEventLoopDelay({ resolution: 5 });
delay.enable();
let mostMemory = 0;
setInterval(() => (mostMemory = Math.max(mostMemory, process.memoryUsage().rss)), 50);
process.on("message", () => {
  const longest = delay.max / 1e6;
  delay.reset();
  process.send({
    megabytes: Math.round(mostMemory / 2 ** 20),
    delayMilliseconds: Math.round(longest),
    events,
  });
  mostMemory = 0;
});
process.on("disconnect", () => process.exit(0));
process.send({ origin });

import { cpus, totalmem } from "node:os";

/** What the figures were measured on. */
export function machine() {
  const [cpu] = cpus();
  return {
    node: process.version,
    platform: `${process.platform} ${process.arch}`,
    processor: cpu?.model ?? "unknown",
    cores: cpus().length,
    memoryGiB: Math.round(totalmem() / 2 ** 30),
    measuredAt: new Date().toISOString().slice(0, 10),
  };
}

export function median(values) {
  const sorted = [...values].sort((left, right) => left - right);
  return sorted[Math.floor(sorted.length / 2)];
}

/** The median of what came of pairs of turns, each pair measured at the same moment: a machine that slows down meets both. */
export function medianRatio(over, under) {
  return rounded(median(over.map((time, turn) => time / under[turn])));
}

export function rounded(value) {
  return Number(value.toPrecision(3));
}

/**
 * Times of a batch of each task, in microseconds an operation: the tasks take turns, so that whatever else the machine
 * does meanwhile meets them all. Each is a list, one time a round, after as many rounds to warm up.
 */
export async function timeInTurn(tasks, { rounds, batch }) {
  const times = Object.fromEntries(Object.keys(tasks).map((name) => [name, []]));
  for (let round = -rounds; round < rounds; round += 1) {
    for (const [name, task] of Object.entries(tasks)) {
      const startedAt = performance.now();
      for (let index = 0; index < batch; index += 1) {
        const done = task();
        if (done instanceof Promise) await done;
      }
      if (round >= 0) times[name].push(((performance.now() - startedAt) * 1000) / batch);
    }
  }
  return times;
}

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

export function rounded(value) {
  return Number(value.toPrecision(3));
}

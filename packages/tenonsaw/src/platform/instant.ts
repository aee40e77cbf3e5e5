/** The last second of the year 9999: what is later has no place in a date, and none in a store. */
const latest = 253_402_300_799;

/** Whether it is an instant: seconds since 1970, with fraction or without (RFC 7519 section 2, NumericDate). */
export function isInstant(value: unknown): value is number {
  return typeof value === "number" && value >= 0 && value <= latest;
}

/** When something ends that lasts so many seconds, as somebody else says who may say anything. */
export function endAfter(seconds: number, beginning: number): number {
  return Math.min(beginning + Math.floor(seconds), latest);
}

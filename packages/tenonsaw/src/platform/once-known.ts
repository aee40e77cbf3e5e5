import type { Eventually } from "./crypto-engine.js";

/**
 * Goes on with a value as soon as it is there: at once where it is, as nearly always with Node's cryptography. What has a
 * `then` is waited for, whoever made it: a promise must not pass for the verdict that it will be.
 */
export function onceKnown<Value, Result>(
  value: Eventually<Value>,
  next: (value: Value) => Eventually<Result>,
): Eventually<Result> {
  const isComing = typeof (value as Promise<Value> | undefined)?.then === "function";
  return isComing ? Promise.resolve(value).then(next) : next(value as Value);
}

import { quoted } from "../problem/index.js";

/** A name that there is not, which would be passed over, and what is meant by it not done. */
export function oddName(given: object, names: readonly string[]): string | undefined {
  const odd = Object.keys(given).find((name) => !names.includes(name));
  return odd === undefined ? undefined : quoted(odd, 40);
}

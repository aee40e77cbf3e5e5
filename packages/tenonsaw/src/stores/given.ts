import { fail } from "../problem/index.js";
import { requireFit, shapeOf } from "../trace/index.js";

/**
 * An address that a store cannot have. It may hold a password, or be one: no more than its scheme is told.
 *
 * @throws store.unavailable
 */
export function refuseAddress(kind: string, given: unknown): never {
  const [scheme] = /^[a-z][a-z\d+.-]+:/i.exec(String(given)) ?? [];
  const shown = given === undefined || given === null ? "nothing" : shapeOf(given);
  fail("store.unavailable", {
    received: `${kind} at ${scheme === undefined ? shown : `something that begins with ${scheme}`}`,
    because: "address",
  });
}

/**
 * How a store is to be opened: a name that there is not would be passed over, and a number that is a text taken for none.
 *
 * @param fits what there is, and whether a value will do
 * @throws server.unfit-argument
 */
export function requireOptions(
  options: object,
  fits: Readonly<Record<string, (value: unknown) => boolean>>,
  expected: string,
): void {
  const areFit = (given: object) =>
    Object.entries(given).every(
      ([name, value]) => value === undefined || (Object.hasOwn(fits, name) && fits[name]?.(value)),
    );
  requireFit(options, areFit, expected);
}

/** Those of the stores with tables. */
export const requireTableOptions = (options: object): void => {
  requireOptions(
    options,
    { onMigrated: (value) => typeof value === "function" },
    "options with the function onMigrated, and nothing else",
  );
};

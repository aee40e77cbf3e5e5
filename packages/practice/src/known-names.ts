/**
 * A name that nobody knows would be passed over, and a test would be of something else.
 *
 * @param names all that may be there
 * @throws RangeError
 */
export function requireKnownNames(of: string, given: unknown, names: Readonly<Record<string, true>>): void {
  if (typeof given !== "object" || given === null) throw new RangeError(`${of} takes an object.`);
  const stranger = Object.keys(given).find((name) => !Object.hasOwn(names, name));
  if (stranger !== undefined)
    throw new RangeError(
      `${of} takes no ${JSON.stringify(stranger)}. There are: ${Object.keys(names).join(", ")}.`,
    );
}

/**
 * A fault that nobody knows would be none, and what should be refused would be right.
 *
 * @throws RangeError
 */
export function requireKnownFault(
  of: string,
  given: string | undefined,
  faults: readonly { readonly name: string }[],
): void {
  if (given === undefined || faults.some(({ name }) => name === given)) return;
  const names = faults.map(({ name }) => name).join(", ");
  throw new RangeError(`${of} has no fault ${JSON.stringify(given)}. There are: ${names}.`);
}

/**
 * Numbers by name, and nothing else.
 *
 * @throws RangeError
 */
export function requireNumbers(of: string, given: unknown, names: readonly string[]): void {
  if (given === undefined) return;
  requireKnownNames(of, given, Object.fromEntries(names.map((name) => [name, true] as const)));
  const odd = Object.entries(given as object).find(
    ([, value]) => value !== undefined && !(typeof value === "number" && value >= 0),
  );
  if (odd) throw new RangeError(`${of} takes a number, 0 or more, as ${JSON.stringify(odd[0])}.`);
}

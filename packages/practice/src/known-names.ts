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

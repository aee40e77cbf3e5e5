import { refuseSettings } from "./parse-settings.js";

/**
 * A copy of a plain object that decides something, taken once: whatever happens to the object later, and whatever a getter of it
 * would say the next time, the copy stays. What an object inherits, hides or computes by its class is not taken for something that
 * somebody wrote.
 *
 * @throws provider.settings-refused
 */
export function ownMembers(path: string, given: object): Readonly<Record<string, unknown>> {
  const prototype: unknown = Object.getPrototypeOf(given);
  const isPlain = prototype === null || prototype === Object.prototype;
  const names = isPlain ? Reflect.ownKeys(given) : [];
  const isOwn = (name: string | symbol): name is string =>
    typeof name === "string" && Object.prototype.propertyIsEnumerable.call(given, name);
  if (!isPlain || !names.every(isOwn))
    refuseSettings({ path, message: "must be a plain object: members of its own, and none of them hidden" });
  return Object.fromEntries(names.map((name) => [name, (given as Record<string, unknown>)[name]]));
}

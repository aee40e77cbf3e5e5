import { fail } from "../problem/index.js";

/**
 * What `fetch` would send as it came: left out, a path is `/undefined`, and an object `[object Object]`.
 *
 * @throws connection.other-origin where there is no path, connection.body-unusable
 */
export function requireCall(path: unknown, { body }: Pick<RequestInit, "body"> = {}): void {
  if (typeof path !== "string")
    fail("connection.other-origin", {
      received: path === undefined ? "nothing" : typeof path,
      because: "no-path",
    });
  if (typeof body !== "object" || body === null) return;
  const made: unknown = Object.getPrototypeOf(body);
  if (made === Object.prototype || Array.isArray(body))
    fail("connection.body-unusable", { received: Array.isArray(body) ? "a list" : "an object" });
}

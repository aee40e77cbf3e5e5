import { fail, quoted } from "./problem.js";

/**
 * A part of this library that is loaded when it is needed: a file of its own, which on a page is one more request.
 *
 * @throws platform.part-not-loaded
 */
export async function loadPart<Part>(loading: Promise<Part>): Promise<Part> {
  try {
    return await loading;
  } catch (error) {
    fail("platform.part-not-loaded", {
      received: quoted(error instanceof Error ? error.message : String(error), 300),
      because: reason(),
      cause: error,
    });
  }
}

/** Which cause it is can be told on a page alone. */
function reason() {
  const { location, navigator } = globalThis as {
    readonly location?: unknown;
    readonly navigator?: { readonly onLine?: boolean };
  };
  if (navigator?.onLine === false) return "offline";
  return location === undefined ? undefined : "page";
}

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

/** A part that is needed with each request: asked for once, and again where it could not be loaded. */
export function partOnce<Part>(load: () => Promise<Part>): () => Promise<Part> {
  let loading: Promise<Part> | undefined;
  return () =>
    (loading ??= loadPart(load()).catch((error: unknown) => {
      loading = undefined;
      throw error;
    }));
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

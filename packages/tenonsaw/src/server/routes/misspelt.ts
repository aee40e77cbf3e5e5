import { ProblemError, quoted } from "../../problem/index.js";
import { nearestName } from "../../provider/index.js";
import type { Context } from "../context/context.js";
import { nameOf } from "./explain.js";

/** Shorter names are near to whatever there is. */
const shortest = 5;
const longest = 40;

/**
 * In development: a parameter that is passed over, and is nearly one that counts, such as `return_to`. What else stands in an
 * address is nobody's business here.
 */
export function tellMisspelt({ settings, tools }: Context, request: Request, known: readonly string[]): void {
  if (!settings.development) return;
  for (const name of new Set(new URL(request.url).searchParams.keys())) {
    if (known.includes(name) || name.length < shortest || name.length > longest) continue;
    const nearest = nearestName(name, known);
    if (nearest !== undefined)
      tools.report?.(
        new ProblemError("attempt.parameter-unknown", { received: quoted(name), expected: quoted(nearest) }),
        nameOf(request),
      );
  }
}

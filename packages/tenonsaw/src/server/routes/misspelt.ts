import { ProblemError, quoted } from "../../problem/index.js";
import { nearestName } from "../../provider/index.js";
import type { Context } from "../context/context.js";
import { nameOf } from "./explain.js";

/** Shorter names are near to whatever there is. */
const shortest = 5;
const longest = 40;
/** Of authorization requests (RFC 6749 section 4.1.1, RFC 8707 section 2, OpenID Connect Core 1.0 sections 3.1.2.1 and 5.5). */
const ofProtocol: readonly string[] = [
  "audience",
  "claims",
  "client_id",
  "display",
  "nonce",
  "prompt",
  "redirect_uri",
  "resource",
  "response_type",
  "state",
];

/**
 * In development: a parameter that is passed over, and is nearly one that counts, such as `return_to`, or is one that providers
 * take. What else stands in an address is nobody's business here.
 */
export function tellMisspelt({ settings, tools }: Context, request: Request, known: readonly string[]): void {
  if (!settings.development) return;
  for (const name of new Set(new URL(request.url).searchParams.keys())) {
    if (known.includes(name) || name.length < shortest || name.length > longest) continue;
    const isOfProtocol = ofProtocol.includes(name);
    const nearest = isOfProtocol ? known.join(", ") : nearestName(name, known);
    if (nearest !== undefined)
      tools.report?.(
        new ProblemError("attempt.parameter-unknown", {
          received: quoted(name),
          expected: isOfProtocol ? `one of ${nearest}` : quoted(nearest),
          because: isOfProtocol ? "protocol" : undefined,
        }),
        nameOf(request),
      );
  }
}

import QuickLRU from "quick-lru";
import { exchangeToken } from "../grant/index.js";
import { fail, quoted } from "../problem/index.js";
import { shapeOf, type Tools } from "../trace/index.js";
import type { Caller } from "./caller.js";
import type { DownstreamApi } from "./settings-types.js";
import type { IssuerDoor } from "./token-issuer.js";

/** A token for another API, got for a caller of this one. Secret. */
export interface DownstreamToken {
  readonly accessToken: string;
  /** What it allows, separated by spaces. */
  readonly scope: string;
  /** Until when it is kept here, seconds since the epoch: never beyond the caller's own token. */
  readonly expiresAt: number;
}

/** A token is not handed out any more when it has so little left, in seconds. */
const spareSeconds = 10;
/** How long a token is kept whose lifetime nobody tells, in seconds. */
const unknownSeconds = 60;

/** Where a caller's own token came from. */
export interface Origin {
  readonly token: string;
  readonly door: IssuerDoor;
}

/**
 * Exchanges callers' tokens for tokens of other APIs (RFC 8693), and keeps each until the shorter of the two ends. However
 * many ask for the same, there is one exchange.
 */
export function createExchange(
  tools: Tools,
  downstream: Readonly<Record<string, DownstreamApi>>,
  originOf: (caller: Caller) => Origin | undefined,
): (caller: Caller, api: string) => Promise<DownstreamToken> {
  const kept = new QuickLRU<string, DownstreamToken>({ maxSize: 1000 });
  const underway = new Map<string, Promise<DownstreamToken>>();
  const exchange = async (name: string, { token, door }: Origin, caller: Caller, target: DownstreamApi) => {
    const { audience, resource, scope } = target;
    const grant = await exchangeToken(await door.client(), {
      subjectToken: token,
      ...(audience !== undefined && { audience: [audience] }),
      ...(resource !== undefined && { resource: [resource] }),
      ...(scope !== undefined && { scope }),
    });
    const ends = [grant.expiresAt ?? tools.platform.now() + unknownSeconds, caller.expiresAt ?? Infinity];
    const got = { accessToken: grant.accessToken, scope: grant.scope, expiresAt: Math.min(...ends) };
    kept.set(name, got);
    return got;
  };
  return async (caller, api) => {
    const target = Object.hasOwn(downstream, api) ? downstream[api] : undefined;
    if (!target)
      return fail("guard.exchange-unknown", {
        received: typeof api === "string" ? `the API ${quoted(api, 80)}` : shapeOf(api),
        expected: `one of the APIs ${Object.keys(downstream).join(", ") || "(none)"}`,
      });
    const origin = originOf(caller);
    if (!origin) return fail("guard.exchange-unknown", { received: shapeOf(caller), because: "caller" });
    const name = `${api} ${origin.token}`;
    const found = kept.get(name);
    if (found && found.expiresAt - spareSeconds > tools.platform.now()) return found;
    let asking = underway.get(name);
    if (!asking) {
      asking = exchange(name, origin, caller, target).finally(() => underway.delete(name));
      underway.set(name, asking);
    }
    return asking;
  };
}

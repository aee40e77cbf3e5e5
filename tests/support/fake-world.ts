import { createSecretKey, randomBytes, type KeyObject } from "node:crypto";
import { createPlatform, type Platform, type SignatureAlgorithm } from "tenonsaw/platform";
import { ProblemError, type Problem } from "tenonsaw/problem";
import { createTools, prepareKey, publicPart, signJws, type Jwk, type JsonObject } from "tenonsaw/jose";
import { openProvider, type Provider, type ProviderSettings } from "tenonsaw";
import type { TraceEvent } from "tenonsaw/trace";
import { expect } from "vitest";
import { newKeyPair } from "../../scripts/key-pair.mjs";

/** An instant to stand on, in seconds since the epoch. */
export const noon = 1_790_000_000;

export const issuer = "https://id.quayside.example";
export const clientId = "ferrywell";

export type FakeAnswer =
  Response | Error | ((url: string, init: RequestInit) => Response | Promise<Response>);

export interface FakeWorld {
  readonly platform: Platform;
  readonly events: TraceEvent[];
  /** Every request that was sent. */
  readonly requests: { readonly url: string; readonly init: RequestInit }[];
  /** Answers by URL; change them as the test goes on. */
  readonly answers: Map<string, FakeAnswer>;
  now: number;
  /** By how many seconds somebody has set the clock of the wall. */
  steppedBy: number;
}

/** A platform whose clock stands still and whose network is a table of answers. */
export function createFakeWorld(parts: Partial<Platform> = {}): FakeWorld {
  const world: FakeWorld = {
    events: [],
    requests: [],
    answers: new Map(),
    now: noon,
    steppedBy: 0,
    platform: createPlatform({
      now: () => world.now + world.steppedBy,
      monotonic: () => world.now,
      print: () => undefined,
      // Waiting takes no time here, and moves the clock.
      async wait(seconds) {
        world.now += seconds;
        return Promise.resolve();
      },
      async fetch(url, init) {
        world.requests.push({ url, init });
        const answer = world.answers.get(url);
        if (answer === undefined) throw new TypeError(`nobody answers ${url}`);
        if (answer instanceof Error) throw answer;
        return answer instanceof Response ? answer.clone() : answer(url, init);
      },
      ...parts,
    }),
  };
  return world;
}

/** Metadata of a provider that does everything by the book. */
export const metadata = {
  issuer,
  authorization_endpoint: `${issuer}/authorize`,
  token_endpoint: `${issuer}/token`,
  jwks_uri: `${issuer}/keys`,
  userinfo_endpoint: `${issuer}/userinfo`,
  revocation_endpoint: `${issuer}/revoke`,
  end_session_endpoint: `${issuer}/end-session`,
  pushed_authorization_request_endpoint: `${issuer}/push`,
  device_authorization_endpoint: `${issuer}/device-authorization`,
  id_token_signing_alg_values_supported: ["RS256", "ES256"],
  authorization_response_iss_parameter_supported: true,
};

const curves = { ES256: "P-256", ES384: "P-384", ES512: "P-521" } as const;

function generateKey(algorithm: SignatureAlgorithm): KeyObject {
  if (algorithm.startsWith("HS")) return createSecretKey(randomBytes(64));
  if (algorithm === "EdDSA") return newKeyPair("ed25519").privateKey;
  if (algorithm in curves)
    return newKeyPair("ec", { namedCurve: curves[algorithm as keyof typeof curves] }).privateKey;
  return newKeyPair("rsa", { modulusLength: 2048 }).privateKey;
}

export interface TestKey {
  readonly privateJwk: Jwk;
  readonly publicJwk: Jwk;
  sign(payload: JsonObject, header?: { kid?: string; typ?: string }): Promise<string>;
}

export function createTestKey(algorithm: SignatureAlgorithm = "ES256", kid = "key-1"): TestKey {
  const exported = generateKey(algorithm).export({ format: "jwk" });
  const privateJwk = { ...exported, kid, use: "sig", alg: algorithm } as unknown as Jwk;
  const tools = createTools();
  return {
    privateJwk,
    publicJwk: algorithm.startsWith("HS") ? privateJwk : publicPart(privateJwk),
    sign: async (payload, header = { kid, typ: "JWT" }) =>
      signJws(tools, await prepareKey(tools, privateJwk, algorithm, "sign"), payload, header),
  };
}

/** The problem that `work` ends in; the test fails when it ends in anything else. */
export async function problemOf(work: () => unknown): Promise<Problem> {
  try {
    await work();
  } catch (error) {
    expect(error).toBeInstanceOf(ProblemError);
    return (error as ProblemError).problem;
  }
  throw new TypeError("expected a problem, and there was none");
}

export function base64urlJson(value: unknown): string {
  return Buffer.from(typeof value === "string" ? value : JSON.stringify(value)).toString("base64url");
}

/** Opens a provider whose metadata and keys the world serves. */
export async function openFakeProvider(
  world: FakeWorld,
  keys: readonly TestKey[] = [],
  settings: Partial<ProviderSettings> = {},
): Promise<Provider> {
  world.answers.set(`${issuer}/.well-known/openid-configuration`, Response.json(metadata));
  world.answers.set(`${issuer}/keys`, Response.json({ keys: keys.map(({ publicJwk }) => publicJwk) }));
  return openProvider(
    { issuer, clientId, clientSecret: "only-for-tests", ...settings },
    { platform: world.platform, trace: (event) => world.events.push(event) },
  );
}

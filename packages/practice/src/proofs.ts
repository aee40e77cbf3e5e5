import { createHash } from "node:crypto";
import { createTools, prepareKey, publicPart, signJws, thumbprint, type Jwk } from "tenonsaw/jose";
import { requireKnownFault, requireKnownNames } from "./known-names.js";
import { randomText } from "./random-text.js";

/** A proof of possession as a test wants it (RFC 9449 section 4.2). */
export interface ProofWish {
  /** The access token that it goes with: of `token({ bound: true })`. */
  readonly token: string;
  readonly url: string;
  /** Default: GET. */
  readonly method?: string;
  /** What the API has asked for by DPoP-Nonce. */
  readonly nonce?: string;
  /** What is wrong with it. */
  readonly fault?: ProofFaultName;
}

/** What can be wrong with a proof, and what a sound API makes of it. */
export const proofFaults = [
  {
    name: "of-another-kind",
    about: "It is a token of another type.",
    ending: "guard.proof-refused",
    because: "kind",
  },
  { name: "no-key", about: "It brings no key.", ending: "guard.proof-refused", because: "key" },
  {
    name: "private-key",
    about: "It brings its private key along.",
    ending: "guard.proof-refused",
    because: "key",
  },
  {
    name: "other-key",
    about: "It is by a key that the token is not bound to.",
    ending: "guard.binding-mismatch",
  },
  { name: "altered", about: "Somebody has changed it.", ending: "guard.proof-refused", because: "signature" },
  { name: "no-id", about: "It has no jti.", ending: "guard.proof-refused", because: "form" },
  {
    name: "other-method",
    about: "It is for another method.",
    ending: "guard.proof-refused",
    because: "method",
  },
  {
    name: "other-address",
    about: "It is for another address.",
    ending: "guard.proof-refused",
    because: "address",
  },
  { name: "old", about: "It was made ten minutes ago.", ending: "guard.proof-refused", because: "time" },
  {
    name: "from-the-future",
    about: "It will be made in ten minutes.",
    ending: "guard.proof-refused",
    because: "time",
  },
  {
    name: "other-token",
    about: "It goes with another access token.",
    ending: "guard.proof-refused",
    because: "token",
  },
] as const satisfies readonly {
  readonly name: string;
  readonly about: string;
  readonly ending: string;
  readonly because?: string;
}[];

export type ProofFaultName = (typeof proofFaults)[number]["name"];

const wishNames: Readonly<Record<keyof ProofWish, true>> = {
  token: true,
  url: true,
  method: true,
  nonce: true,
  fault: true,
};

/** Who proves possession: a key of its own. */
export interface Prover {
  readonly thumbprint: string;
  prove(wish: ProofWish): Promise<string>;
}

const makeKey = async () => (await createTools().platform.crypto.generateKey("P-256")) as unknown as Jwk;

export async function createProver(now: () => number): Promise<Prover> {
  const tools = createTools();
  const own = await makeKey();
  return {
    thumbprint: await thumbprint(tools, publicPart(own)),
    async prove(wish) {
      requireKnownNames("A proof", wish, wishNames);
      requireKnownFault("A proof", wish.fault, proofFaults);
      const { token, url, method = "GET", nonce, fault } = wish;
      const key = fault === "other-key" ? await makeKey() : own;
      const { origin, pathname } = new URL(url);
      const sent = fault === "other-token" ? "another" : token;
      const shift = fault === "old" ? -600 : fault === "from-the-future" ? 600 : 0;
      const claims = {
        ...(fault !== "no-id" && { jti: randomText() }),
        htm: fault === "other-method" ? "PROPFIND" : method,
        htu: fault === "other-address" ? "https://elsewhere.example/" : origin + pathname,
        iat: Math.floor(now()) + shift,
        ath: createHash("sha256").update(sent).digest("base64url"),
        ...(nonce !== undefined && { nonce }),
      };
      const jwk = fault === "no-key" ? undefined : fault === "private-key" ? key : publicPart(key);
      const header = { typ: fault === "of-another-kind" ? "JWT" : "dpop+jwt", ...(jwk && { jwk }) };
      const proof = await signJws(tools, await prepareKey(tools, key, "ES256", "sign"), claims, header);
      if (fault !== "altered") return proof;
      const [head = "", , signature = ""] = proof.split(".");
      const changed = Buffer.from(JSON.stringify({ ...claims, jti: randomText() })).toString("base64url");
      return `${head}.${changed}.${signature}`;
    },
  };
}

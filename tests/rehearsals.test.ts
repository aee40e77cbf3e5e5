import { afterAll, beforeAll, describe, expect, it } from "vitest";
import {
  beginOAuth1SignIn,
  beginSignIn,
  finishOAuth1SignIn,
  finishSignIn,
  isProblem,
  openOAuth1Provider,
  openProvider,
  type Outcome,
  type ProviderSettings,
  type SignInRequest,
} from "tenonsaw";
import { catalogue } from "tenonsaw/problem";
import {
  createVisitor,
  defaultClient,
  rehearsals,
  startPractice,
  type Practice,
  type Rehearsal,
} from "tenonsaw-practice";
import { createTestKey } from "./support/fake-world.js";
import { newKeyPair } from "../scripts/key-pair.mjs";

let practice: Practice;
beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256" });
});
afterAll(async () => {
  await practice.stop();
});

const redirectUri = "http://localhost:5173/back";
const client = { ...defaultClient, clientId: "rehearsing", redirectUris: [redirectUri] };
const decryptionKey = newKeyPair("rsa", { modulusLength: 2048 });
const named = { kid: "for-tokens", alg: "RSA-OAEP-256", use: "enc" };
const encryptedClient = {
  ...client,
  clientId: "decrypting",
  encryptionKey: { ...decryptionKey.publicKey.export({ format: "jwk" }), ...named } as never,
};
const encryptedSettings = {
  clientId: encryptedClient.clientId,
  clientAuthentication: "client_secret_basic" as const,
  clientKeys: JSON.stringify({ ...decryptionKey.privateKey.export({ format: "jwk" }), ...named }),
  idTokenEncryptedResponseAlg: "RSA-OAEP-256" as const,
  userinfoSignedResponseAlg: "ES256" as const,
  userinfoEncryptedResponseAlg: "RSA-OAEP-256" as const,
};
const recent: Partial<SignInRequest> = { maxAge: 300 };
const classes: Partial<SignInRequest> = { acrValues: "urn:quayside:two-factor" };

/** What a provider is told on its own pages; the address it sends the browser back to. */
async function decide(origin: string, url: string, fault?: string): Promise<string> {
  const visitor = createVisitor();
  const page = await visitor.open(url);
  const field = /name="request" value="([^"]+)"/.exec(page.text)?.[1] ?? "";
  const chosen = { request: field, person: "maren", ...(fault !== undefined && { rehearsal: fault }) };
  await visitor.post(`${origin}/authorize/person`, chosen);
  const answer = await visitor.fetch(`${origin}/authorize/decision`, {
    method: "POST",
    body: new URLSearchParams({ request: field, decision: "allow" }),
  });
  return answer.headers.get("location") ?? "";
}

const nameOf = (outcome: Outcome) =>
  outcome.kind === "failed" ? outcome.problem.code : outcome.kind === "granted" ? "signed in" : "declined";

/** The same at the archive, by OAuth 1.0a. */
async function signInAtArchive(fault?: string): Promise<string> {
  const provider = openOAuth1Provider({
    protocol: "oauth1",
    issuer: practice.archive,
    clientId: client.clientId,
    clientSecret: client.clientSecret ?? "",
    temporaryCredentialsEndpoint: `${practice.archive}/initiate`,
    authorizationEndpoint: `${practice.archive}/authorize`,
    tokenEndpoint: `${practice.archive}/token`,
    userinfoEndpoint: `${practice.archive}/api/me`,
    profile: { subject: "/card/number" },
    declinedParameter: "denied",
  });
  const { url, attempt } = await beginOAuth1SignIn(provider, { redirectUri });
  return nameOf(await finishOAuth1SignIn(provider, attempt, await decide(practice.archive, url, fault)));
}

/** A whole sign-in by the core alone; how it ends. */
async function signIn({ asks, ending }: Rehearsal, fault?: string): Promise<string> {
  const settings: ProviderSettings = {
    issuer: practice.issuer,
    clientId: client.clientId,
    clientSecret: client.clientSecret ?? "",
    scope: "openid profile",
    // Short where it is to run out, and nowhere else: a machine may stand still for a second.
    ...(ending === "platform.too-slow" && { timeoutSeconds: 0.5 }),
    ...(asks === "hybrid" && { responseType: "code id_token" as const }),
    ...(asks === "signed" && { responseMode: "query.jwt" as const }),
    ...(asks === "bound" && { dpopBoundAccessTokens: true }),
    ...(asks === "pushed" && { requirePushedAuthorizationRequests: true }),
    ...(asks === "encrypted" && encryptedSettings),
  };
  try {
    if (asks === "oauth1") return await signInAtArchive(fault);
    const provider = await openProvider(settings);
    const request = asks === "recent" ? recent : asks === "class" ? classes : {};
    const { url, attempt } = await beginSignIn(provider, { redirectUri, ...request });
    return nameOf(await finishSignIn(provider, attempt, await decide(practice.issuer, url, fault)));
  } catch (error) {
    if (isProblem(error)) return error.problem.code;
    throw error;
  }
}

/** Faults in what comes before the sign-in page can be played for everybody only. */
const isPublished = (name: string) => /^(metadata|key-set|temporary|push)-/.test(name);

/** What a host does wrong is played where it opens an app: tests/launch.test.ts. */
const atProviders: readonly Rehearsal[] = rehearsals.filter((each: Rehearsal) => each.asks !== "launch");

describe("rehearsals", () => {
  beforeAll(() => {
    practice.register(client);
    practice.register(encryptedClient);
  });

  it("are eighty at the least, each of a name of its own, and end in problems that there are", () => {
    expect(new Set(rehearsals.map(({ name }) => name)).size).toBe(rehearsals.length);
    expect(rehearsals.length).toBeGreaterThanOrEqual(80);
    for (const { ending } of rehearsals)
      expect([...Object.keys(catalogue), "signed in", "declined"]).toContain(ending);
  });

  it.each(atProviders)("$name: $about Ends as $ending", async (rehearsal: Rehearsal) => {
    practice.rehearse(rehearsal.name as never);
    expect(await signIn(rehearsal)).toBe(rehearsal.ending);
    practice.rehearse();
  });

  it.each(atProviders.filter(({ name }) => !isPublished(name)))(
    "$name can be chosen on the sign-in page, for that sign-in alone",
    async (rehearsal: Rehearsal) => {
      expect(await signIn(rehearsal, rehearsal.name)).toBe(rehearsal.ending);
      expect(await signIn(rehearsal)).toBe("signed in");
    },
  );
});

describe("signed requests", () => {
  it("are taken from a client that is registered for them, pushed or not, and nothing else is", async () => {
    const { privateJwk, publicJwk } = createTestKey("ES256", "requests");
    practice.register({ ...client, clientId: "signing", publicKeys: [publicJwk], signsRequests: true });
    const settings: ProviderSettings = {
      issuer: practice.issuer,
      clientId: "signing",
      clientKeys: JSON.stringify(privateJwk),
      scope: "openid profile",
    };
    for (const requirePushedAuthorizationRequests of [false, true]) {
      const pushing = { ...settings, requirePushedAuthorizationRequests };
      const provider = await openProvider({ ...pushing, requestObjectSigningAlg: "ES256" });
      const { url, attempt } = await beginSignIn(provider, { redirectUri });
      expect(nameOf(await finishSignIn(provider, attempt, await decide(practice.issuer, url)))).toBe(
        "signed in",
      );
      // What is in the signature counts, not what stands beside it.
      const altered = new URL(url);
      altered.searchParams.set("redirect_uri", "https://evil.example/");
      altered.searchParams.set("scope", "openid email");
      if (!requirePushedAuthorizationRequests)
        expect(await decide(practice.issuer, altered.href)).toContain(`${redirectUri}?`);
    }
    const unsigned = await beginSignIn(await openProvider(settings), { redirectUri });
    expect((await createVisitor().open(unsigned.url)).status).toBe(400);
  });
});

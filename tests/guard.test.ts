import { createHash, X509Certificate } from "node:crypto";
import { createServer as createTlsServer, request as askTls } from "node:https";
import type { AddressInfo } from "node:net";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { guardForNode } from "tenonsaw/node";
import { openGuard, type Guard, type Refusal } from "tenonsaw/guard";
import { createTools, thumbprint } from "tenonsaw/jose";
import { createCertificate, proofFaults, startPractice, tokenFaults, type Practice } from "tenonsaw-practice";
import { signDpopProof } from "../packages/tenonsaw/src/provider/index.js";
import { createTestKey } from "./support/fake-world.js";

let practice: Practice;
let guard: Guard;

beforeAll(async () => {
  practice = await startPractice();
  practice.register({ ...practice.client, clientId: "tidebook", clientSecret: "tidebook-secret" });
  guard = await openGuard({
    issuer: practice.issuer,
    audience: practice.tidebook,
    elsewhere: {
      "the production environment": "https://id.quayside.example",
      "the API gauges": "https://gauges.example",
    },
    client: { clientId: "tidebook", clientSecret: "tidebook-secret" },
    downstream: { gauges: { audience: "https://gauges.example", scope: "gauges.read" } },
    onProblem: () => undefined,
  });
});
afterAll(() => practice.stop());

const bearing = (token: string) =>
  new Request(practice.tidebook, { headers: { authorization: `Bearer ${token}` } });

describe("a guard and the practice provider", () => {
  it("agree on a token of a sign-in, of a client and of a person with a role", async () => {
    expect(
      await guard.admit(bearing(await practice.token()), { scope: "tides.read", caller: "person" }),
    ).toMatchObject({
      subject: "qs-10231",
      roles: ["member", "coach"],
      clientId: "ferrywell",
    });
    expect((await guard.admit(bearing(await practice.token({ person: null })), "any-caller")).kind).toBe(
      "client",
    );
    await guard.admit(bearing(await practice.token({ person: "ib" })), {
      role: "harbour-master",
      maxAge: 60,
    });
    await expect(practice.token({ person: "nobody" })).rejects.toThrow("There are: maren, zoe");
  });

  it.each(tokenFaults.map((fault) => [fault.name, fault] as const))(
    "%s ends as its rehearsal says",
    async (fault, expected) => {
      const error: unknown = await guard
        .admit(bearing(await practice.token({ fault })), { scope: "tides.read" })
        .then(
          () => "let in",
          (thrown: unknown) => thrown,
        );
      expect(error).toHaveProperty("problem.code", expected.ending);
      if ("because" in expected) expect((error as Refusal).problem.because).toBe(expected.because);
      // Named with both values, and a side to change.
      const { received, here, atProvider } = (error as Refusal).problem;
      expect(received).toBeTruthy();
      expect(here ?? atProvider).toBeTruthy();
    },
  );

  it("exchange a caller's token for another API's, which says who acts", async () => {
    const caller = await guard.admit(bearing(await practice.token()), "any-caller");
    const { accessToken, scope } = await guard.exchange(caller, "gauges");
    expect(scope).toBe("gauges.read");
    const gauges = await openGuard({
      issuer: practice.issuer,
      audience: "https://gauges.example",
      onProblem: () => undefined,
    });
    const seen = await gauges.admit(bearing(accessToken), { scope: "gauges.read", actor: ["tidebook"] });
    expect(seen).toMatchObject({ subject: "qs-10231", actors: [{ subject: "tidebook" }] });
    await expect(gauges.admit(bearing(accessToken), { actor: "nobody" })).rejects.toMatchObject({
      problem: { code: "guard.actor-refused" },
    });
  });

  it("ask about opaque tokens, and believe that one was taken back", async () => {
    const asking = await openGuard({
      issuer: practice.issuer,
      audience: practice.tidebook,
      client: { clientId: "tidebook", clientSecret: "tidebook-secret" },
      introspection: { keepSeconds: 0 },
      onProblem: () => undefined,
    });
    const token = await practice.token({ opaque: true });
    expect((await asking.admit(bearing(token), { scope: "tides.read" })).subject).toBe("qs-10231");
    await expect(asking.admit(bearing("made-up"), "any-caller")).rejects.toMatchObject({
      problem: { code: "guard.token-inactive" },
    });
    const wrong = await openGuard({
      issuer: practice.issuer,
      audience: practice.tidebook,
      client: { clientId: "tidebook", clientSecret: "wrong" },
      introspection: true,
      onProblem: () => undefined,
    });
    await expect(wrong.admit(bearing(token), "any-caller")).rejects.toMatchObject({
      problem: { code: "guard.introspection-refused", status: 503 },
    });
  });

  it.each(proofFaults.map((fault) => [fault.name, fault] as const))(
    "a proof %s ends as its rehearsal says",
    async (fault, expected) => {
      const token = await practice.token({ bound: true });
      const url = `${practice.tidebook}/tides/today`;
      const call = async (wrong?: typeof fault) => {
        const dpop = await practice.proof({ token, url, ...(wrong && { fault: wrong }) });
        return new Request(url, { headers: { authorization: `DPoP ${token}`, dpop } });
      };
      expect((await guard.admit(await call(), "any-caller")).boundTo).toBe("key");
      const error: unknown = await guard
        .admit(await call(fault), "any-caller")
        .catch((thrown: unknown) => thrown);
      expect(error).toHaveProperty("problem.code", expected.ending);
      if ("because" in expected) expect((error as Refusal).problem.because).toBe(expected.because);
    },
  );

  it("judge a proof that the client side of this library has made", async () => {
    const key = createTestKey("ES256", "owner").privateJwk;
    const cnf = { jkt: await thumbprint(createTools(), key) };
    const token = await practice.token({ claims: { cnf } });
    const url = `${practice.tidebook}/tides`;
    const proof = await signDpopProof(createTools(), key, { method: "GET", url, accessToken: token });
    const headers = { authorization: `DPoP ${token}`, dpop: proof.text };
    expect((await guard.admit(new Request(url, { headers }), "any-caller")).boundTo).toBe("key");
  });
});

describe("a guard over mutual TLS", () => {
  it("takes a bound token on its owner's connection, and on no other", async () => {
    const own = await createCertificate("localhost");
    const thief = await createCertificate("localhost");
    const print = createHash("sha256").update(new X509Certificate(own.certificate).raw).digest("base64url");
    const token = await practice.token({ claims: { cnf: { "x5t#S256": print } } });
    const guarded = guardForNode(guard);
    const server = createTlsServer(
      { cert: own.certificate, key: own.key, requestCert: true, rejectUnauthorized: false },
      (incoming, outgoing) => {
        void guarded
          .admit(incoming, outgoing, "any-caller")
          .then((caller) => caller && outgoing.end(caller.boundTo));
      },
    );
    await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
    const { port } = server.address() as AddressInfo;
    const ask = (certificate?: { readonly certificate: string; readonly key: string }) =>
      new Promise<[number | undefined, string]>((resolve, reject) => {
        const asking = askTls(
          {
            host: "localhost",
            port,
            rejectUnauthorized: false,
            agent: false,
            headers: { authorization: `Bearer ${token}` },
            ...(certificate && { cert: certificate.certificate, key: certificate.key }),
          },
          (answer) => {
            let text = "";
            answer.on("data", (part: Buffer) => (text += part.toString()));
            answer.on("end", () => resolve([answer.statusCode, text]));
          },
        );
        asking.on("error", reject).end();
      });
    expect(await ask(own)).toEqual([200, "certificate"]);
    expect((await ask(thief))[0]).toBe(401);
    expect((await ask())[0]).toBe(401);
    server.close();
  });
});

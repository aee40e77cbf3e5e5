import { describe, expect, it } from "vitest";
import {
  createFakeWorld,
  issuer,
  openFakeProvider,
  problemOf,
} from "../../../../tests/support/fake-world.js";
import { beginSignIn } from "../attempt/index.js";
import type { Provider } from "../provider/index.js";
import { readResponse } from "./read-response.js";

async function setUp(parts: { promisesIssuer?: boolean } = {}) {
  const world = createFakeWorld();
  const opened = await openFakeProvider(world);
  const provider = {
    ...opened,
    metadata: {
      ...opened.metadata,
      authorization_response_iss_parameter_supported: parts.promisesIssuer ?? true,
    },
  };
  const { attempt } = await beginSignIn(provider, { redirectUri: "https://ferrywell.example/back" });
  const read = (query: string) =>
    readResponse(
      provider,
      attempt,
      new URLSearchParams(query.replace("STATE", attempt.state).replace("ISS", encodeURIComponent(issuer))),
    );
  return { world, attempt, provider, read };
}

describe("readResponse", () => {
  it("hands on the code", async () => {
    const { read } = await setUp();
    expect(await read("code=c0de&state=STATE&iss=ISS")).toEqual({ kind: "answered", code: "c0de", kept: {} });
  });

  it("takes what a host says of a launch for that, and what it says of itself for what it is", async () => {
    const { attempt, provider } = await setUp();
    const host = { isSmart: true, base: "https://records.clinic.example/fhir" } as NonNullable<
      Provider["host"]
    >;
    const causeOf = async (error: string, scope: string, hosted = host) => {
      const query = new URLSearchParams({ error, state: attempt.state, iss: issuer });
      const reading = () => readResponse({ ...provider, host: hosted }, { ...attempt, scope }, query);
      return (await problemOf(reading)).because;
    };
    expect([
      await causeOf("invalid_request", "openid launch"),
      await causeOf("unauthorized_client", "launch"),
      await causeOf("server_error", "launch"),
      await causeOf("invalid_request", "launch/patient"),
      await causeOf("invalid_request", "launch", { ...host, isSmart: false }),
    ]).toEqual(["launch", "launch", "out-of-order", "request", "request"]);
  });

  it("takes access_denied for a person's answer, not for a failure", async () => {
    const { read } = await setUp();
    expect(await read("error=access_denied&state=STATE&iss=ISS")).toMatchObject({ kind: "declined" });
  });

  it.each([
    ["a bookmarked callback", "", "response.empty"],
    ["parameters of something else", "utm_source=x", "response.empty"],
    ["no state", "code=c0de&iss=ISS", "response.state-missing"],
    ["an empty state", "code=c0de&state=&iss=ISS", "response.state-missing"],
    ["another state", "code=c0de&state=other&iss=ISS", "response.state-altered"],
    [
      "another state, even when the person said no",
      "error=access_denied&state=other&iss=ISS",
      "response.state-altered",
    ],
    ["two states", "code=c0de&state=STATE&state=STATE&iss=ISS", "response.parameter-duplicated"],
    ["two codes", "code=a&code=b&state=STATE&iss=ISS", "response.parameter-duplicated"],
    ["no issuer where one is promised", "code=c0de&state=STATE", "response.issuer-missing"],
    ["another issuer", "code=c0de&state=STATE&iss=https://evil.example", "response.issuer-mismatch"],
    [
      "another issuer's refusal",
      "error=access_denied&state=STATE&iss=https://evil.example",
      "response.issuer-mismatch",
    ],
    [
      "an error",
      "error=invalid_scope&error_description=No+such+scope&state=STATE&iss=ISS",
      "response.provider-error",
    ],
    ["neither code nor error", "state=STATE&iss=ISS", "response.code-missing"],
    ["an empty code", "code=&state=STATE&iss=ISS", "response.code-missing"],
  ])("refuses %s", async (_, query, code) => {
    const { read } = await setUp();
    expect((await problemOf(() => read(query))).code).toBe(code);
  });

  it("needs no issuer where none is promised, but compares one that comes", async () => {
    const { read } = await setUp({ promisesIssuer: false });
    expect((await read("code=c0de&state=STATE")).kind).toBe("answered");
    const { code } = await problemOf(() => read("code=c0de&state=STATE&iss=https://evil.example"));
    expect(code).toBe("response.issuer-mismatch");
  });

  it("is closed after ten minutes", async () => {
    const { world, read } = await setUp();
    world.now += 599;
    expect((await read("code=c0de&state=STATE&iss=ISS")).kind).toBe("answered");
    world.now += 1;
    expect((await problemOf(() => read("code=c0de&state=STATE&iss=ISS"))).code).toBe(
      "response.attempt-too-old",
    );
  });

  it("repeats the provider's words on one line, without control characters, and never the state", async () => {
    const { attempt, read } = await setUp();
    const words = encodeURIComponent("<b>Bad</b>\u001b[31m\r\nscope\u202e");
    const { received } = await problemOf(() =>
      read(`error=x&error_description=${words}&state=STATE&iss=ISS`),
    );
    expect(received).toBe('"x": "<b>Bad</b> [31m scope "');
    const altered = await problemOf(() => read("code=c&state=nope&iss=ISS"));
    expect(JSON.stringify(altered)).not.toContain(attempt.state);
    expect(altered.received).toMatch(/^a value with fingerprint #[0-9a-f]{8}$/);
  });
});

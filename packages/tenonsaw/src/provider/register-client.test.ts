import { describe, expect, it } from "vitest";
import {
  createFakeWorld,
  issuer,
  metadata as published,
  openFakeProvider,
  problemOf,
  type FakeAnswer,
} from "../../../../tests/support/fake-world.js";
import { Secret } from "../platform/index.js";
import { readSettingsFile } from "../server/adapters/node.js";
import { openProvider, registerClient } from "./index.js";

const endpoint = `${issuer}/register`;

async function register(answer: FakeAnswer, token?: Secret) {
  const world = createFakeWorld();
  world.answers.set(`${issuer}/metadata`, Response.json({ ...published, registration_endpoint: endpoint }));
  world.answers.set(endpoint, answer);
  const settings = { issuer, clientId: "none-yet", deviations: { metadataUrl: `${issuer}/metadata` } };
  const provider = await openProvider(settings, { platform: world.platform });
  const registration = await registerClient(
    provider,
    { redirect_uris: ["https://ferrywell.example/back"] },
    token,
  );
  return { registration, request: world.requests.at(-1)! };
}
const created = (body: object) => Response.json(body, { status: 201 });

describe("registerClient", () => {
  it("sends the app's metadata, and keeps what it is given from being shown", async () => {
    const answer = created({
      client_id: "app-1",
      client_secret: "hush-hush",
      client_secret_expires_at: 1_800_000_000,
      token_endpoint_auth_method: "client_secret_post",
    });
    const { registration, request } = await register(answer, new Secret("initial"));
    expect(JSON.parse(request.init.body as string)).toEqual({
      redirect_uris: ["https://ferrywell.example/back"],
    });
    expect(new Headers(request.init.headers).get("authorization")).toBe("Bearer initial");
    expect(registration).toMatchObject({
      clientId: "app-1",
      clientSecretExpiresAt: 1_800_000_000,
      clientAuthentication: "client_secret_post",
    });
    expect(registration.clientSecret?.reveal()).toBe("hush-hush");
    expect(JSON.stringify(registration)).not.toContain("hush");
  });

  it("takes zero for a secret that does not end", async () => {
    const { registration } = await register(created({ client_id: "app-1", client_secret_expires_at: 0 }));
    expect(registration).toEqual({ clientId: "app-1" });
  });

  it.each<[string, FakeAnswer]>([
    ["an error", Response.json({ error: "invalid_redirect_uri", error_description: "why" }, { status: 400 })],
    [
      "a way of proving the client that takes a secret, and none",
      created({ client_id: "app-1", token_endpoint_auth_method: "client_secret_basic" }),
    ],
    ["no client ID", created({ client_secret: "hush-hush" })],
    ["a secret that is no text", created({ client_id: "app-1", client_secret: 7 })],
    ["a page", new Response("<h1>Hi</h1>", { status: 201 })],
    ["an empty answer", new Response("", { status: 400 })],
  ])("is refused with %s", async (_, answer) => {
    const problem = await problemOf(() => register(answer));
    expect(problem.code).toBe("provider.registration-refused");
    expect(JSON.stringify(problem)).not.toContain("hush");
  });

  it("says so where it is not offered, or handed what is none of it", async () => {
    const provider = await openFakeProvider(createFakeWorld());
    for (const work of [
      () => registerClient(provider, undefined as never),
      () => registerClient(provider, {}, "a-token" as never),
    ])
      expect((await problemOf(work)).code).toBe("server.unfit-argument");
    expect((await problemOf(() => registerClient(provider, {}))).code).toBe(
      "provider.registration-not-offered",
    );
  });
});

describe("readSettingsFile", () => {
  it("names the file that it cannot read, and why", async () => {
    const problem = await problemOf(() => readSettingsFile("/nowhere/tenonsaw.config.json"));
    expect(problem).toMatchObject({
      code: "provider.settings-file-unreadable",
      received: "/nowhere/tenonsaw.config.json: ENOENT",
    });
  });
});

import { beforeAll, describe, expect, it } from "vitest";
import {
  clientId,
  createFakeWorld,
  createTestKey,
  issuer,
  noon,
  openFakeProvider,
  problemOf,
} from "../../../../tests/support/fake-world.js";
import type { Provider } from "../provider/index.js";
import { validateLogoutToken } from "./index.js";

const key = createTestKey("ES256");
const event = "http://schemas.openid.net/event/backchannel-logout";
const good = {
  iss: issuer,
  aud: clientId,
  iat: noon,
  exp: noon + 120,
  jti: "notice-1",
  sub: "qs-10231",
  sid: "sid-1",
  events: { [event]: {} },
};
const world = createFakeWorld();
let provider: Provider;
beforeAll(async () => {
  provider = await openFakeProvider(world, [key]);
});
const validate = async (changes: object, typ = "logout+jwt") =>
  validateLogoutToken(provider, await key.sign({ ...good, ...changes }, { kid: "key-1", typ }));

describe("validateLogoutToken", () => {
  it("says whom the notice is about", async () => {
    expect(await validate({})).toEqual({
      issuer,
      subject: "qs-10231",
      providerSessionId: "sid-1",
      id: "notice-1",
      expiresAt: noon + 120,
    });
    expect(await validate({ sid: undefined })).not.toHaveProperty("providerSessionId");
    expect(await validate({ sub: undefined, aud: [clientId] }, "JWT")).not.toHaveProperty("subject");
    expect(await validate({}, "application/Logout+JWT")).toHaveProperty("subject");
  });

  // Each row differs from a good token in one thing, so only the check it names can refuse it.
  it.each<[name: string, changes: object, code?: string | undefined, typ?: string]>([
    ["another issuer", { iss: "https://evil.example" }, "identity.issuer-mismatch"],
    ["no issuer", { iss: undefined }, "identity.issuer-mismatch"],
    ["another audience", { aud: "other" }],
    ["no audience", { aud: undefined }],
    ["another audience beside this client", { aud: [clientId, "other"] }],
    ["an nbf of the future", { nbf: noon + 61 }],
    ["an nbf that is no number", { nbf: [] }],
    ["an end that is over", { exp: noon - 60 }],
    ["no end", { exp: undefined }],
    ["an end after the year 9999", { exp: 1e300 }],
    ["a beginning in the future", { iat: noon + 61 }],
    ["no beginning", { iat: undefined }],
    ["nobody", { sub: undefined, sid: undefined }],
    ["a subject that is no text", { sub: 10231 }],
    ["a session that is no text", { sid: ["sid-1"] }],
    ["a beginning that is no instant", { iat: "noon" }],
    ["no events", { events: undefined }],
    ["events that are nothing", { events: null }],
    ["another event", { events: { "http://schemas.openid.net/event/other": {} } }],
    ["an event that is no object", { events: { [event]: true } }],
    ["an event in a list", { events: [event] }],
    ["a nonce, as in an ID token", { nonce: "n0nce" }],
    ["no ID", { jti: undefined }],
    ["the type of an access token", {}, undefined, "at+jwt"],
  ])("refuses %s", async (_, changes, code = "identity.logout-token-refused", typ) => {
    expect((await problemOf(() => validate(changes, typ))).code).toBe(code);
  });

  it.each<[string, object]>([
    ["an nbf within the tolerance", { nbf: noon + 60 }],
    ["a beginning within the tolerance", { iat: noon + 60 }],
    ["an end within the tolerance", { exp: noon - 59 }],
    ["no event but the one, which may hold more", { events: { [event]: { more: 1 } } }],
  ])("takes %s", async (_, changes) => {
    expect(await validate(changes)).toHaveProperty("id");
  });

  it("takes one without an end where that is declared, for two minutes", async () => {
    const declared = await openFakeProvider(world, [key], { deviations: { logoutTokenWithoutExpiry: true } });
    const tell = async (changes: object) =>
      validateLogoutToken(declared, await key.sign({ ...good, exp: undefined, ...changes }));
    expect(await tell({})).toMatchObject({ expiresAt: noon + 120 });
    for (const changes of [{ iat: noon - 180 }, { iat: undefined }, { exp: "soon" }])
      expect((await problemOf(() => tell(changes))).code).toBe("identity.logout-token-refused");
  });

  it("refuses a signature by another key, and a provider without keys", async () => {
    const forged = await createTestKey("ES256").sign(good);
    expect((await problemOf(() => validateLogoutToken(provider, forged))).code).toBe(
      "jose.signature-mismatch",
    );
    const { keys: _none, ...without } = provider;
    expect((await problemOf(() => validateLogoutToken(without, forged))).code).toBe(
      "identity.logout-token-refused",
    );
  });
});

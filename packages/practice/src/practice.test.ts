import { createHash } from "node:crypto";
import { once } from "node:events";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { decodeJws } from "tenonsaw/jose";
import { createVisitor, defaultClient, PortInUseError, startPractice, type Practice } from "./index.js";

const verifier = "v".repeat(43);
const challenge = createHash("sha256").update(verifier).digest("base64url");
const redirectUri = "http://localhost:5173/sign-in/from/quayside";
const basic = `Basic ${btoa(`${defaultClient.clientId}:${defaultClient.clientSecret ?? ""}`)}`;
let practice: Practice;
let ahead = 0;

beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256", now: () => Date.now() / 1000 + ahead });
});
afterAll(() => practice.stop());

function authorizeUrl(changes: Readonly<Record<string, string | undefined>> = {}): string {
  const parameters: Readonly<Record<string, string | undefined>> = {
    response_type: "code",
    client_id: defaultClient.clientId,
    redirect_uri: redirectUri,
    scope: "openid profile email offline_access tides.read",
    state: "st4te",
    nonce: "n0nce",
    prompt: "consent",
    code_challenge: challenge,
    code_challenge_method: "S256",
    ...changes,
  };
  const given = Object.entries(parameters).filter(
    (entry): entry is [string, string] => entry[1] !== undefined,
  );
  return `${practice.issuer}/authorize?${new URLSearchParams(given)}`;
}

/** The parameters of the redirect that a request ends in, or the page it ends on. */
async function answerTo(url: string, visitor = createVisitor()) {
  const answer = await visitor.fetch(url);
  const location = answer.headers.get("location");
  return location === null
    ? { status: answer.status, text: await answer.text() }
    : { at: location.split("?")[0], ...Object.fromEntries(new URL(location).searchParams) };
}

async function getCode(
  changes: Readonly<Record<string, string | undefined>> = {},
  person = "Maren",
): Promise<string> {
  const visitor = createVisitor();
  await visitor.open(authorizeUrl(changes));
  const page = await visitor.press(person);
  const request = /name="request" value="([^"]+)"/.exec(page.text)?.[1] ?? "";
  const answer = await visitor.fetch(`${practice.issuer}/authorize/decision`, {
    method: "POST",
    body: new URLSearchParams({ request, decision: "allow" }),
  });
  return new URL(answer.headers.get("location") ?? "").searchParams.get("code") ?? "";
}

type Tokens = Readonly<Record<"access_token" | "refresh_token" | "id_token" | "error" | "scope", string>>;

async function ask(
  path: string,
  form: Readonly<Record<string, string>>,
  authorization: string | null = basic,
) {
  const answer = await fetch(practice.issuer + path, {
    method: "POST",
    body: new URLSearchParams(form),
    headers: authorization === null ? {} : { authorization },
  });
  return { status: answer.status, body: (await answer.json()) as Tokens };
}
const redeem = (
  code: string,
  changes: Readonly<Record<string, string>> = {},
  authorization?: string | null,
) =>
  ask(
    "/token",
    {
      grant_type: "authorization_code",
      code,
      redirect_uri: redirectUri,
      code_verifier: verifier,
      ...changes,
    },
    authorization,
  );
const refresh = (refresh_token: string) => ask("/token", { grant_type: "refresh_token", refresh_token });
const callTidebook = (token?: string) =>
  fetch(`${practice.tidebook}/tides/today`, {
    headers: token === undefined ? {} : { authorization: `Bearer ${token}` },
  });
const askUserinfo = (token: string) =>
  fetch(`${practice.issuer}/userinfo`, { headers: { authorization: `Bearer ${token}` } });

describe("Quayside ID, authorization endpoint", () => {
  it.each([
    ["an unknown client", { client_id: "nobody" }, "Unknown client"],
    ["a redirect URI with a slash more", { redirect_uri: `${redirectUri}/` }, "character for character"],
    ["no redirect URI", { redirect_uri: undefined }, "not registered"],
  ])("shows a page, and redirects nowhere, for %s", async (_, changes, text) => {
    expect(await answerTo(authorizeUrl(changes))).toMatchObject({
      status: 400,
      text: expect.stringContaining(text) as string,
    });
  });

  it.each([
    ["another response type", { response_type: "token" }, "unsupported_response_type"],
    ["no PKCE", { code_challenge: undefined }, "invalid_request"],
    ["plain PKCE", { code_challenge_method: "plain" }, "invalid_request"],
    ["a scope it does not offer", { scope: "openid everything" }, "invalid_scope"],
    ["no openid", { scope: "profile" }, "invalid_scope"],
    ["prompt none when nobody is signed in", { prompt: "none" }, "login_required"],
    ["prompt none with more", { prompt: "none login" }, "invalid_request"],
  ])("answers with an error, state and issuer to %s", async (_, changes, error) => {
    expect(await answerTo(authorizeUrl(changes))).toMatchObject({
      at: redirectUri,
      error,
      state: "st4te",
      iss: practice.issuer,
    });
  });

  it("asks a person it knows for consent only, and forgets them at sign-out", async () => {
    const visitor = createVisitor();
    await visitor.open(authorizeUrl());
    await visitor.press("Zoë");
    expect((await visitor.open(authorizeUrl())).text).toContain("You are signed in as Zoë");
    expect((await visitor.press("Not Zoë")).text).toContain("Pick a made-up member");
    expect((await visitor.press("Zoë")).text).toContain('<optgroup label="The token endpoint">');
    expect(await answerTo(authorizeUrl({ prompt: "none" }), visitor)).toMatchObject({
      error: "consent_required",
    });
    expect((await visitor.open(authorizeUrl({ prompt: "login" }))).text).toContain("Pick a made-up member");
    await visitor.open(`${practice.issuer}/end-session`);
    await visitor.press("Sign out");
    expect((await visitor.open(authorizeUrl())).text).toContain("Pick a made-up member");
  });

  it("does not let in a suspended account", async () => {
    const visitor = createVisitor();
    await visitor.open(authorizeUrl());
    expect((await visitor.press("Corin")).status).toBe(403);
  });

  it("says on every page that it is for practice", async () => {
    const visitor = createVisitor();
    for (const url of [
      practice.issuer,
      authorizeUrl(),
      authorizeUrl({ client_id: "x" }),
      `${practice.issuer}/end-session`,
    ]) {
      expect((await visitor.open(url)).text).toContain("for trying things out only");
    }
  });
});

describe("Quayside ID, token endpoint", () => {
  it("gives tokens for a code, the ID token with everything in it", async () => {
    const { status, body } = await redeem(await getCode());
    expect(status).toBe(200);
    expect(decodeJws(body.id_token).payload).toMatchObject({
      iss: practice.issuer,
      aud: defaultClient.clientId,
      sub: "qs-10231",
      nonce: "n0nce",
      at_hash: createHash("sha256").update(body.access_token).digest().subarray(0, 16).toString("base64url"),
    });
    expect(decodeJws(body.access_token)).toMatchObject({
      header: { typ: "at+jwt" },
      payload: { aud: practice.tidebook },
    });
  });

  it("gives no refresh token without consent to offline access", async () => {
    const { body } = await redeem(await getCode({ prompt: "login" }));
    expect(body).not.toHaveProperty("refresh_token");
    expect(body.scope).toBe("openid profile email tides.read");
  });

  it.each<[string, (code: string) => ReturnType<typeof redeem>, number, string]>([
    [
      "another redirect URI",
      (code) => redeem(code, { redirect_uri: `${redirectUri}/` }),
      400,
      "invalid_grant",
    ],
    ["another verifier", (code) => redeem(code, { code_verifier: "w".repeat(43) }), 400, "invalid_grant"],
    ["no secret", (code) => redeem(code, { client_id: defaultClient.clientId }, null), 401, "invalid_client"],
    ["a wrong secret", (code) => redeem(code, {}, `Basic ${btoa("ferrywell:guess")}`), 401, "invalid_client"],
    ["an unknown client", (code) => redeem(code, {}, `Basic ${btoa("nobody:x")}`), 401, "invalid_client"],
    ["two ways of authentication", (code) => redeem(code, { client_secret: "x" }), 400, "invalid_request"],
    ["another grant type", (code) => redeem(code, { grant_type: "password" }), 400, "unsupported_grant_type"],
    ["a made-up code", () => redeem("made-up"), 400, "invalid_grant"],
  ])("refuses %s", async (_, attempt, status, error) => {
    expect(await attempt(await getCode())).toMatchObject({ status, body: { error } });
  });

  it("takes the secret in the body as well", async () => {
    const credentials = {
      client_id: defaultClient.clientId,
      client_secret: defaultClient.clientSecret ?? "",
    };
    expect((await redeem(await getCode(), credentials, null)).status).toBe(200);
  });

  it("ends everything that came of a code when the code comes again", async () => {
    const code = await getCode();
    const { body } = await redeem(code);
    expect(await redeem(code)).toMatchObject({ status: 400, body: { error: "invalid_grant" } });
    expect(await refresh(body.refresh_token)).toMatchObject({ status: 400 });
    expect((await askUserinfo(body.access_token)).status).toBe(401);
  });

  it("refuses a code that has grown old", async () => {
    const code = await getCode();
    ahead = 61;
    expect(await redeem(code)).toMatchObject({ status: 400, body: { error: "invalid_grant" } });
    ahead = 0;
  });

  it("rotates refresh tokens, and ends the family when a spent one comes again", async () => {
    const { body: first } = await redeem(await getCode());
    const { body: second } = await refresh(first.refresh_token);
    expect(second.refresh_token).not.toBe(first.refresh_token);
    expect((await refresh(second.refresh_token)).status).toBe(200);
    expect(await refresh(first.refresh_token)).toMatchObject({
      status: 400,
      body: { error: "invalid_grant" },
    });
    expect(await refresh(second.refresh_token)).toMatchObject({ status: 400 });
  });

  it("revokes by refresh token or access token, and says 200 to what it does not know", async () => {
    for (const which of ["refresh_token", "access_token"] as const) {
      const { body } = await redeem(await getCode());
      expect((await ask("/revoke", { token: body[which] })).status).toBe(200);
      expect((await refresh(body.refresh_token)).status).toBe(400);
    }
    expect((await ask("/revoke", { token: "unknown" })).status).toBe(200);
    expect((await ask("/revoke", { token: "unknown" }, null)).status).toBe(401);
  });
});

describe("Quayside ID, userinfo, keys and sign-out", () => {
  it("tells what the scope covers, and only that", async () => {
    const { body: full } = await redeem(await getCode());
    expect(await (await askUserinfo(full.access_token)).json()).toMatchObject({
      sub: "qs-10231",
      name: "Maren Holt",
      email_verified: true,
    });
    const { body: bare } = await redeem(await getCode({ scope: "openid" }));
    expect(await (await askUserinfo(bare.access_token)).json()).toEqual({ sub: "qs-10231" });
    const { body: ib } = await redeem(await getCode({}, "Ib"));
    expect(await (await askUserinfo(ib.access_token)).json()).toEqual({
      sub: "qs-10009",
      name: "Ib",
      roles: ["harbour-master"],
    });
  });

  it("publishes no private key, and after a rotation the new key beside the old", async () => {
    const keys = async () =>
      ((await (await fetch(`${practice.issuer}/keys`)).json()) as { keys: Record<string, string>[] }).keys;
    const before = await keys();
    await practice.rotateKeys();
    const after = await keys();
    expect(after).toHaveLength(2);
    expect(after[1]).toEqual(before[0]);
    expect(after.flatMap(Object.keys)).not.toContain("d");
  });

  it("returns after sign-out to registered addresses only", async () => {
    const { body } = await redeem(await getCode());
    const leave = (uri: string) =>
      answerTo(
        `${practice.issuer}/end-session?${new URLSearchParams({ id_token_hint: body.id_token, post_logout_redirect_uri: uri })}`,
      );
    expect(await leave("http://localhost:5173/sign-in/out/done")).toMatchObject({
      at: "http://localhost:5173/sign-in/out/done",
    });
    expect(await leave("https://evil.example/")).toMatchObject({ status: 400 });
  });
});

describe("Tidebook", () => {
  it("answers to a token that allows it, and says in the standard's way why not to others", async () => {
    const { body: good } = await redeem(await getCode());
    expect((await (await callTidebook(good.access_token)).json()) as object).toHaveProperty("tides");
    const challengeOf = async (token?: string) => {
      const answer = await callTidebook(token);
      return [answer.status, answer.headers.get("www-authenticate")];
    };
    expect(await challengeOf()).toEqual([401, 'Bearer realm="Tidebook"']);
    expect((await challengeOf(good.id_token))[1]).toContain("typ at+jwt is");
    for (const token of ["nonsense", `${good.access_token}x`]) {
      expect(await challengeOf(token)).toEqual([401, 'Bearer realm="Tidebook", error="invalid_token"']);
    }
    const { body: narrow } = await redeem(await getCode({ scope: "openid profile" }));
    expect(await challengeOf(narrow.access_token)).toEqual([
      403,
      'Bearer realm="Tidebook", error="insufficient_scope", scope="tides.read"',
    ]);
    ahead = 31;
    expect((await challengeOf(good.access_token))[0]).toBe(401);
    ahead = 0;
  });
});

describe("Quayside ID, registration endpoint", () => {
  const register = async (metadata: object) => {
    const body = JSON.stringify(metadata);
    const answer = await fetch(`${practice.issuer}/register`, { method: "POST", body });
    return { status: answer.status, body: (await answer.json()) as Readonly<Record<string, string>> };
  };

  it("registers an app, which can sign people in at once", async () => {
    const { status, body } = await register({ redirect_uris: [redirectUri], client_name: "Boat shed" });
    expect(status).toBe(201);
    const page = await createVisitor().open(authorizeUrl({ client_id: body["client_id"] }));
    expect(page.text).toContain("Sign in to go on to Boat shed");
    const open = await register({ redirect_uris: [redirectUri], token_endpoint_auth_method: "none" });
    expect(open.body).not.toHaveProperty("client_secret");
  });

  it.each([
    ["no redirect URIs", {}, "invalid_redirect_uri"],
    ["a redirect URI with a fragment", { redirect_uris: [`${redirectUri}#x`] }, "invalid_redirect_uri"],
    [
      "an unknown authentication",
      { redirect_uris: [redirectUri], token_endpoint_auth_method: "magic" },
      "invalid_client_metadata",
    ],
    ["an unknown scope", { redirect_uris: [redirectUri], scope: "everything" }, "invalid_client_metadata"],
  ])("refuses %s", async (_, metadata, error) => {
    expect(await register(metadata)).toMatchObject({ status: 400, body: { error } });
  });
});

describe("Slipway", () => {
  it("answers to machines, which get tokens for it and for nothing else", async () => {
    const own = await ask("/token", { grant_type: "client_credentials", scope: "slipway.status" });
    expect(own.body).not.toHaveProperty("refresh_token");
    const call = (origin: string, path: string, token: string) =>
      fetch(origin + path, { headers: { authorization: `Bearer ${token}` } });
    const answer = await call(practice.slipway, "/status", own.body.access_token);
    expect(await answer.json()).toEqual({ gate: "open", crane: "idle", asked: "ferrywell" });
    expect((await call(practice.tidebook, "/tides/today", own.body.access_token)).status).toBe(401);
    const { body: persons } = await redeem(await getCode());
    expect((await call(practice.slipway, "/status", persons.access_token)).status).toBe(401);
  });

  it.each([
    ["a scope for people", { scope: "tides.read" }, basic, 400, "invalid_scope"],
    ["no scope", {}, basic, 400, "invalid_scope"],
    ["no proof", { scope: "slipway.status" }, null, 401, "invalid_client"],
  ])("refuses %s", async (_, form, authorization, status, error) => {
    const answer = await ask("/token", { grant_type: "client_credentials", ...form }, authorization);
    expect(answer).toMatchObject({ status, body: { error } });
  });
});

describe("startPractice", () => {
  it("offers the people asked for, and says who there are when it knows nobody of that name", async () => {
    const small = await startPractice({ algorithm: "EdDSA", people: ["ib"] });
    expect(small.people.map(({ name }) => name)).toEqual(["Ib"]);
    await small.stop();
    await expect(startPractice({ people: ["olga"] })).rejects.toThrow(
      'Nobody is called "olga". There are: maren, zoe, ib, corin.',
    );
    await expect(startPractice({ rehearsal: "flood" as never })).rejects.toThrow('No rehearsal "flood".');
    const client = { ...defaultClient, redirectUris: "http://localhost:5173/" as never };
    for (const [odd, said] of [
      [{ port: 4600 }, 'startPractice takes no "port". There are: ports,'],
      [{ algorithm: "HS257" }, 'No algorithm "HS257".'],
      [{ clients: [client] }, "lists of redirectUris"],
      [{ clients: defaultClient }, "a list of clients"],
      [{ ports: { quayside: "4600" } }, 'ports takes a number, 0 or more, as "quayside"'],
      [
        { lifetimes: { accessToken: 30 } },
        'lifetimes takes no "accessToken". There are: accessTokenSeconds,',
      ],
      [{ lifetimes: { accessTokenSeconds: -1 } }, 'a number, 0 or more, as "accessTokenSeconds"'],
      [{ now: 0 }, "a function as now"],
      [{ clients: [{ ...defaultClient, redirectUri: "x" }] }, 'A client takes no "redirectUri"'],
    ] as const)
      await expect(startPractice(odd as never)).rejects.toThrow(said);
    for (const [wish, said] of [
      [{ scopes: "tides.read" }, 'no "scopes"'],
      [{ scope: ["tides.read"] }, "as one text"],
      [{ fault: "expird" }, 'A token has no fault "expird". There are: other-issuer,'],
    ] as const)
      await expect(practice.token(wish as never)).rejects.toThrow(said);
    await expect(createVisitor().open("/tides")).rejects.toThrow('a whole address, and not "/tides"');
    await expect(createVisitor().open("http://localhost:1/tides")).rejects.toThrow(
      "No answer from http://localhost:1: ",
    );
    const proof = { token: "at", url: practice.tidebook, fault: "odd" };
    await expect(practice.proof(proof as never)).rejects.toThrow('A proof has no fault "odd"');
  });

  it("answers the pages of the origins that were named, and of no others", async () => {
    const pages = await startPractice({ pageOrigins: ["http://localhost:5173"] });
    const metadata = `${pages.issuer}/.well-known/openid-configuration`;
    const allowedFor = async (url: string, origin: string, method = "GET") =>
      (
        await fetch(url, { method, headers: { origin, "access-control-request-method": "POST" } })
      ).headers.get("access-control-allow-origin");
    expect(await allowedFor(metadata, "http://localhost:5173")).toBe("http://localhost:5173");
    expect(await allowedFor(`${pages.issuer}/token`, "http://localhost:5173", "OPTIONS")).toBe(
      "http://localhost:5173",
    );
    expect(await allowedFor(metadata, "http://localhost:5174")).toBeNull();
    expect(await allowedFor(`${practice.issuer}/keys`, "http://localhost:5173")).toBeNull();
    await pages.stop();
  });

  it("says which port is taken, and leaves nothing running behind", async () => {
    const port = Number(new URL(practice.tidebook).port);
    const taken = startPractice({ algorithm: "EdDSA", ports: { tidebook: port } });
    await expect(taken).rejects.toBeInstanceOf(PortInUseError);
    await expect(taken).rejects.toThrow(`Port ${port} is in use.`);
  });
});

describe("Quayside ID, pushed requests", () => {
  const pushed = () =>
    Object.fromEntries(new URL(authorizeUrl()).searchParams) as Readonly<Record<string, string>>;
  const push = (form: Readonly<Record<string, string>>, authorization: string | null = basic) =>
    ask("/push", form, authorization) as unknown as Promise<{
      status: number;
      body: { request_uri: string; error: string; error_description: string };
    }>;
  const follow = (request_uri: string, client_id = defaultClient.clientId) =>
    createVisitor().open(`${practice.issuer}/authorize?${new URLSearchParams({ client_id, request_uri })}`);

  it("are taken once, and for the client that pushed them", async () => {
    const { status, body } = await push(pushed());
    expect(status).toBe(201);
    expect((await follow(body.request_uri)).text).toContain("Sign in to go on to Ferrywell");
    expect((await follow(body.request_uri)).status).toBe(400);
    expect((await follow((await push(pushed())).body.request_uri, "another")).status).toBe(400);
  });

  it("are refused as they would be at the authorization endpoint", async () => {
    expect((await push(pushed(), `Basic ${btoa("ferrywell:wrong")}`)).body.error).toBe("invalid_client");
    const { body } = await push({ ...pushed(), redirect_uri: `${redirectUri}/` });
    expect(body.error_description).toContain(`Registered: ${redirectUri}`);
    expect((await push({ ...pushed(), scope: "openid fish" })).body.error).toBe("invalid_scope");
  });
});

describe("Quayside ID, device authorization", () => {
  const grant_type = "urn:ietf:params:oauth:grant-type:device_code";
  const begin = async () => {
    const { body } = await ask("/device-authorization", { scope: "openid tides.read" });
    return body as unknown as { device_code: string; user_code: string; verification_uri_complete: string };
  };
  const poll = (device_code: string) => ask("/token", { grant_type, device_code });

  it("gives tokens once somebody has entered the code and allowed it", async () => {
    const { device_code, user_code, verification_uri_complete } = await begin();
    expect((await poll(device_code)).body.error).toBe("authorization_pending");
    expect((await poll(device_code)).body.error).toBe("slow_down");
    const visitor = createVisitor();
    expect((await visitor.open(verification_uri_complete)).text).toContain(user_code);
    const entered = { user_code: user_code.toLowerCase().replace("-", " ") };
    expect((await visitor.post(`${practice.issuer}/device`, entered)).text).toContain("Maren Holt");
    await visitor.press("Maren");
    expect((await visitor.press("Yes")).text).toContain("go back to your device");
    const { body } = await poll(device_code);
    expect(decodeJws(body.id_token).payload["sub"]).toBe("qs-10231");
    expect((await callTidebook(body.access_token)).status).toBe(200);
    expect((await poll(device_code)).body.error).toBe("invalid_grant");
  });

  it("says no when the person does, and knows no code that nobody was given", async () => {
    const { device_code, user_code } = await begin();
    const visitor = createVisitor();
    expect((await visitor.post(`${practice.issuer}/device`, { user_code: "BBBB-BBBB" })).status).toBe(400);
    await visitor.post(`${practice.issuer}/device`, { user_code });
    await visitor.press("Maren");
    await visitor.press("No");
    expect((await poll(device_code)).body.error).toBe("access_denied");
  });
});

describe("Harbour Union's own API", () => {
  const client = {
    ...defaultClient,
    clientId: "cranes-app",
    redirectUris: ["http://localhost:5173/back"],
  };
  const tokenFor = async (tokenFormat: 1 | 2) => {
    practice.register({ ...client, tokenFormat });
    const visitor = createVisitor();
    const query = new URL(authorizeUrl({ client_id: "cranes-app", redirect_uri: client.redirectUris[0] }))
      .searchParams;
    query.set("scope", "openid cranes.operate");
    await visitor.open(`${practice.harbour}/authorize?${query}`);
    const page = await visitor.press("Ib");
    const request = /name="request" value="([^"]+)"/.exec(page.text)?.[1] ?? "";
    const answer = await visitor.fetch(`${practice.harbour}/authorize/decision`, {
      method: "POST",
      body: new URLSearchParams({ request, decision: "allow" }),
    });
    const code = new URL(answer.headers.get("location") ?? "").searchParams.get("code") ?? "";
    const redeemed = await fetch(`${practice.harbour}/token`, {
      method: "POST",
      headers: { authorization: `Basic ${btoa("cranes-app:only-for-practice")}` },
      body: new URLSearchParams({
        grant_type: "authorization_code",
        code,
        redirect_uri: "http://localhost:5173/back",
        code_verifier: verifier,
      }),
    });
    return ((await redeemed.json()) as Tokens).access_token;
  };
  const call = async (token: string) => {
    const answer = await fetch(`${practice.harbour}/cranes`, {
      headers: { authorization: `Bearer ${token}` },
    });
    return { status: answer.status, challenge: answer.headers.get("www-authenticate") };
  };

  it("takes tokens of format 2, and says of those of format 1 that it is the format", async () => {
    const two = await tokenFor(2);
    expect(decodeJws(two)).toMatchObject({ header: { typ: "at+jwt" }, payload: { format: 2 } });
    expect(await call(two)).toEqual({ status: 200, challenge: null });
    const one = await tokenFor(1);
    expect(decodeJws(one)).toMatchObject({ header: { typ: "JWT" }, payload: { format: 1 } });
    expect(await call(one)).toMatchObject({
      status: 401,
      challenge: expect.stringContaining("format") as string,
    });
  });
});

it("has a visitor who asks once more where a connection was ended just then, and sends nothing twice that changes something", async () => {
  const seen: (string | undefined)[] = [];
  const server = createServer((incoming, outgoing) => {
    seen.push(incoming.method);
    if (seen.length === 2) outgoing.end("there");
    else incoming.socket.resetAndDestroy();
  });
  await once(server.listen(0, "localhost"), "listening");
  const url = `http://localhost:${(server.address() as AddressInfo).port}/`;
  expect((await createVisitor().open(url)).text).toBe("there");
  await expect(createVisitor().post(url, {})).rejects.toThrow("No answer from http://localhost:");
  await expect(createVisitor().open(url)).rejects.toThrow("No answer from http://localhost:");
  expect(seen).toEqual(["GET", "GET", "POST", "GET", "GET"]);
  server.close();
});

import { mkdtemp, rm, writeFile } from "node:fs/promises";
import { once } from "node:events";
import type { IncomingMessage } from "node:http";
import { createServer, request } from "node:https";
import type { AddressInfo } from "node:net";
import { tmpdir } from "node:os";
import { text } from "node:stream/consumers";
import { join } from "node:path";
import { brotliCompressSync, gzipSync } from "node:zlib";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from "vitest";
import type { ProviderSettings } from "tenonsaw";
import { createPlatform, type Platform } from "tenonsaw/platform";
import { createCertifiedFetch } from "tenonsaw/node";
import {
  createCertificate,
  createVisitor,
  defaultClient,
  startPractice,
  type Certified,
  type Client,
  type Practice,
  type Visitor,
} from "tenonsaw-practice";
import { start } from "./support/processes.js";
import { startApp, type App } from "./support/start-app.js";

let practice: Practice;
let issued: Certified;
let selfSigned: Certified;
let visitor: Visitor;
let app: App | undefined;

beforeAll(async () => {
  practice = await startPractice({ algorithm: "ES256", certificates: true });
  issued = await practice.secure!.authority.issue("ferrywell");
  selfSigned = await createCertificate("ferrywell");
});
afterAll(() => practice.stop());
beforeEach(() => {
  visitor = createVisitor();
});
afterEach(async () => {
  await app?.stop();
  app = undefined;
});

/** Shows no certificate, and trusts the practice provider's. */
function bareFetch(ca: string): Platform["fetch"] {
  return async (url, { method, headers, body, signal }) => {
    if (url.startsWith("http:")) return fetch(url, { method, headers, body, signal } as RequestInit);
    const sent = request(url, { ca, method, headers: Object.fromEntries(new Headers(headers)) });
    sent.end(body === undefined || body === null ? undefined : await new Response(body).text());
    const [incoming] = (await once(sent, "response")) as [IncomingMessage];
    return new Response(await text(incoming), { status: incoming.statusCode ?? 0 });
  };
}

async function open(
  certified: Certified | undefined,
  settings: Partial<ProviderSettings>,
  registration: Partial<Client>,
): Promise<App> {
  const authorities = practice.secure!.authority.certificate;
  const platform = createPlatform({
    fetch: certified ? createCertifiedFetch({ ...certified, authorities }) : bareFetch(authorities),
  });
  app = await startApp(practice, {
    providers: {
      quayside: {
        issuer: practice.issuer,
        clientId: "ferrywell",
        scope: "openid profile offline_access tides.read",
        ...settings,
      },
    },
    apis: {
      tidebook: { provider: "quayside", origin: practice.secure!.tidebook },
      plain: { provider: "quayside", origin: practice.tidebook },
    },
    platform,
  });
  const { clientSecret: _secret, ...client } = defaultClient;
  practice.register({
    ...client,
    redirectUris: [`${app.origin}/sign-in/from/quayside`],
    ...registration,
  });
  return app;
}

async function signIn() {
  await visitor.open(`${app!.origin}/sign-in/to/quayside?returnTo=/`);
  await visitor.press("Maren");
  await visitor.press("Yes, allow");
  const cookie = `tenonsaw-session=${visitor.cookies.get("localhost")?.get("tenonsaw-session") ?? ""}`;
  return app!.signIn.session(new Request(app!.origin, { headers: { cookie } }));
}

describe("an app that proves itself by its TLS certificate", () => {
  it.each(["tls_client_auth", "self_signed_tls_client_auth"] as const)(
    "signs in by %s at the endpoints for it, and its tokens are good with that certificate only",
    async (clientAuthentication) => {
      const isIssued = clientAuthentication === "tls_client_auth";
      await open(
        isIssued ? issued : selfSigned,
        { clientAuthentication },
        isIssued ? { certificateName: "ferrywell" } : { certificate: selfSigned.certificate },
      );
      const session = await signIn();
      expect(session?.person.name).toBe("Maren Holt");
      const legs = app!.events.flatMap((event) => (event.kind === "leg" ? [event] : []));
      const direct = legs.filter(({ leg }) => leg === "token request" || leg === "userinfo request");
      expect(direct.map(({ url }) => new URL(url).protocol)).toEqual(["https:", "https:"]);
      expect(legs.find(({ leg }) => leg === "token request")?.sent).toMatchObject({ client_id: "ferrywell" });
      expect((await session?.fetch("tidebook", "/tides/today"))?.status).toBe(200);
      // Where no certificate can be shown, the token is of no use.
      expect((await session?.fetch("plain", "/tides/today"))?.status).toBe(401);
    },
  );

  it.each([
    ["no certificate", undefined],
    ["a certificate of somebody else", "stranger"],
    ["one of the same name that nobody vouches for", "self-signed"],
  ])("is refused with %s", async (_, which) => {
    const stranger = await practice.secure!.authority.issue("someone-else");
    const certified = { stranger, "self-signed": selfSigned }[which ?? ""];
    await open(certified, { clientAuthentication: "tls_client_auth" }, { certificateName: "ferrywell" });
    expect(await signIn()).toBeUndefined();
    expect(visitor.page?.text).toContain("(grant.client-refused)");
  });

  it("can keep its secret and bind its tokens all the same", async () => {
    await open(
      issued,
      { clientSecret: "only-for-practice", tlsClientCertificateBoundAccessTokens: true },
      { clientSecret: "only-for-practice" },
    );
    const session = await signIn();
    expect((await session?.fetch("tidebook", "/tides/today"))?.status).toBe(200);
    expect((await session?.fetch("plain", "/tides/today"))?.status).toBe(401);
  });

  it("asks at the usual endpoints where nothing is bound to the certificate", async () => {
    await open(issued, { clientSecret: "only-for-practice" }, { clientSecret: "only-for-practice" });
    const session = await signIn();
    const legs = app!.events.flatMap((event) => (event.kind === "leg" ? [event] : []));
    expect(legs.every(({ url }) => new URL(url).protocol === "http:")).toBe(true);
    expect((await session?.fetch("plain", "/tides/today"))?.status).toBe(200);
  });
});

describe("the commands, with a certificate", () => {
  it("check, get a token, and say which file they cannot read", async () => {
    const folder = await mkdtemp(join(tmpdir(), "tenonsaw-tls-"));
    const [settings, pem, authority] = ["settings.json", "client.pem", "ca.pem"].map((name) =>
      join(folder, name),
    ) as [string, string, string];
    await writeFile(pem, `${issued.certificate}\n${issued.key}`);
    await writeFile(authority, practice.secure!.authority.certificate);
    const quayside = {
      issuer: practice.issuer,
      clientId: "by-certificate",
      clientAuthentication: "tls_client_auth",
      scope: "openid offline_access",
    };
    await writeFile(settings, JSON.stringify({ origin: "http://localhost:5173", providers: { quayside } }));
    const { clientSecret: _secret, ...client } = defaultClient;
    practice.register({
      ...client,
      clientId: "by-certificate",
      certificateName: "ferrywell",
      redirectUris: ["http://localhost:5173/sign-in/from/quayside"],
    });
    const env = { NODE_EXTRA_CA_CERTS: authority, TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url") };
    const run = (...args: readonly string[]) =>
      start("packages/tenonsaw/bin/tenonsaw.js", [...args, "--settings", settings], { env }).finished;
    const good = await run("check", "quayside", "--all", "--certificate", pem);
    expect([good.code, good.output]).toEqual([0, expect.stringContaining("tls_client_auth")]);
    const without = await run("check", "quayside");
    expect([without.code, without.output]).toEqual([1, expect.stringContaining("invalid_client")]);
    const absent = await run(
      "try",
      "quayside",
      "--client",
      "--scope",
      "x",
      "--certificate",
      join(folder, "nowhere"),
    );
    expect([absent.code, absent.errors]).toEqual([2, expect.stringContaining("cli.file-unreadable")]);
    await rm(folder, { recursive: true });
  });
});

describe("createCertifiedFetch", () => {
  it("takes what is a certificate with its key, and nothing else", () => {
    for (const [given, expected] of [
      [{ certificate: "/run/secrets/client.pem", key: "/run/secrets/client.key" }, "not its path"],
      [{ certificate: issued.certificate }, "`key` as PEM"],
      [{ certificate: issued.certificate, key: selfSigned.key }, "the private key that belongs to it"],
      [{ ...issued, authorities: "ca.pem" }, "`authorities` as PEM"],
    ] as const)
      expect(() => createCertifiedFetch(given as never)).toThrow(
        new RegExp(`server\\.unfit-argument.*${expected}`, "s"),
      );
  });

  it("sends what a fetch sends, brings back what it gets, follows nothing, and ends when it is told to", async () => {
    const part = new Uint8Array(1024 * 1024).fill(7);
    let [sent, received, ahead] = [0, 0, 0];
    const { certificate, key } = await practice.secure!.authority.issue("localhost");
    const server = createServer(
      { cert: certificate, key, requestCert: true, rejectUnauthorized: false },
      (incoming, outgoing) => {
        if (incoming.url === "/hang") return;
        if (incoming.url === "/nothing") return void outgoing.writeHead(204).end();
        if (incoming.url === "/away") return void outgoing.writeHead(302, { location: "/hang" }).end();
        if (incoming.url === "/odd") return void outgoing.writeHead(999).end("odd");
        if (incoming.url === "/twice")
          return void outgoing
            .setHeader("content-encoding", "gzip, br")
            .end(brotliCompressSync(gzipSync("twice")));
        const encode = { gzip: gzipSync, br: brotliCompressSync }[incoming.url?.slice(1) ?? ""];
        if (encode)
          return void outgoing
            .setHeader("content-encoding", incoming.url!.slice(1).toUpperCase())
            .end(encode(String(incoming.headers["accept-encoding"])));
        if (incoming.url === "/cut")
          return void outgoing
            .writeHead(200, { "content-length": "9" })
            .write("cut", () => incoming.destroy());
        if (incoming.url === "/upload") {
          incoming.on("data", (chunk: Buffer) => {
            received += chunk.length;
            ahead = Math.max(ahead, sent - received / part.length);
          });
          return void incoming.on("end", () => outgoing.end(String(received)));
        }
        const chunks: Buffer[] = [];
        incoming.on("data", (chunk: Buffer) => chunks.push(chunk));
        incoming.on("end", () => {
          const { method, headers } = incoming;
          const type = headers["content-type"];
          outgoing.setHeader("set-cookie", ["a=1", "b=2"]);
          outgoing.end(JSON.stringify({ method, type, body: Buffer.concat(chunks).toString() }));
        });
      },
    );
    await new Promise<void>((resolve) => server.listen(0, "localhost", resolve));
    const origin = `https://localhost:${(server.address() as AddressInfo).port}`;
    const authorities = practice.secure!.authority.certificate;
    const certified = createCertifiedFetch({ ...issued, authorities, origins: [origin] });
    const posted = await certified(`${origin}/`, { method: "POST", body: new URLSearchParams({ a: "ä" }) });
    expect(await posted.json()).toEqual({
      method: "POST",
      type: "application/x-www-form-urlencoded;charset=UTF-8",
      body: "a=%C3%A4",
    });
    expect(posted.headers.getSetCookie()).toEqual(["a=1", "b=2"]);
    expect((await certified(`${origin}/nothing`, {})).status).toBe(204);
    expect((await certified(`${origin}/away`, { redirect: "manual" })).headers.get("location")).toBe("/hang");
    const odd = await certified(`${origin}/odd`, {});
    expect([odd.status, await odd.text()]).toEqual([999, "odd"]);
    for (const coding of ["gzip", "br"]) {
      expect(await (await certified(`${origin}/${coding}`, {})).text()).toBe("gzip, br");
      expect(await (await certified(`${origin}/${coding}`, { method: "HEAD" })).text()).toBe("");
    }
    expect(await (await certified(`${origin}/twice`, {})).text()).toBe("twice");
    await expect(certified(`${origin}/cut`, {}).then((cut) => cut.text())).rejects.toThrow();
    const body = new ReadableStream<Uint8Array>({
      pull(controller) {
        if (sent === 100) controller.close();
        else controller.enqueue(part);
        sent += 1;
      },
    });
    const sending = { method: "PUT", body, duplex: "half" } as RequestInit;
    expect(await (await certified(`${origin}/upload`, sending)).text()).toBe(String(100 * part.length));
    // Megabytes on their way at once: never the whole of it.
    expect(ahead).toBeLessThan(30);
    const broken = new ReadableStream({ pull: (controller) => controller.error(new Error("gone")) });
    await expect(certified(`${origin}/upload`, { ...sending, body: broken })).rejects.toThrow("gone");
    await expect(certified(`${origin}/hang`, { signal: AbortSignal.timeout(100) })).rejects.toThrow();
    // Elsewhere it is the usual fetch, which knows nothing of this authority.
    const elsewhere = createCertifiedFetch({
      ...issued,
      authorities,
      origins: ["https://elsewhere.example"],
    });
    await expect(elsewhere(`${origin}/`, {})).rejects.toThrow();
    server.closeAllConnections();
    await new Promise((resolve) => server.close(resolve));
  });
});

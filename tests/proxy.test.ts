import { execFileSync, spawn, type ChildProcess } from "node:child_process";
import { once } from "node:events";
import { mkdtemp, rm, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Browser } from "playwright-core";
import { afterAll, beforeAll, describe, expect, it, vi } from "vitest";
import { defaultClient, startPractice, type Practice } from "tenonsaw-practice";
import { openBrowser } from "./support/browsers.js";
import { freePorts } from "../scripts/servers.mjs";
import { startApp, type App } from "./support/start-app.js";

const { CHROMIUM, NGINX } = process.env;

describe.skipIf(CHROMIUM === undefined || NGINX === undefined)("behind nginx, where TLS ends", () => {
  let folder: string;
  let practice: Practice;
  let browser: Browser;
  let nginx: ChildProcess;
  let publicOrigin: string;
  let app: App;
  let clubOrigin: string;

  beforeAll(async () => {
    folder = await mkdtemp(join(tmpdir(), "tenonsaw-proxy-"));
    const port = await freePorts(2);
    publicOrigin = `https://localhost:${port}`;
    clubOrigin = `https://localhost:${port + 1}`;
    practice = await startPractice({ algorithm: "ES256" });
    app = await startApp(practice, { origin: publicOrigin });
    practice.register({
      ...defaultClient,
      redirectUris: [`${publicOrigin}/sign-in/from/quayside`],
      postLogoutRedirectUris: [`${publicOrigin}/sign-in/out/done`],
    });
    nginx = await startNginx(port, app.origin);
    browser = await openBrowser();
  });
  afterAll(async () => {
    await browser.close();
    nginx.kill("SIGQUIT");
    await once(nginx, "exit");
    await app.stop();
    await practice.stop();
    await rm(folder, { recursive: true });
  });

  /** A proxy as one meets it: it ends TLS, and passes Host and scheme on in the usual headers. */
  async function startNginx(port: number, upstream: string): Promise<ChildProcess> {
    const [key, certificate] = [join(folder, "key.pem"), join(folder, "certificate.pem")];
    const subject = ["-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost"];
    const make = [
      "req",
      "-x509",
      "-newkey",
      "rsa:2048",
      "-nodes",
      "-days",
      "2",
      "-keyout",
      key,
      "-out",
      certificate,
    ];
    execFileSync("openssl", [...make, ...subject], { stdio: "ignore" });
    const paths = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"].map(
      (name) => `${name}_temp_path ${folder}/${name};`,
    );
    const config = `daemon off; pid ${folder}/nginx.pid; error_log stderr; worker_processes 1;
events {}
http {
  access_log off; ${paths.join(" ")}
    ssl_certificate ${certificate}; ssl_certificate_key ${key};
  server {
    listen localhost:${port + 1} ssl;
    location / {
      proxy_pass ${upstream};
      proxy_set_header X-Forwarded-For $remote_addr;
      proxy_set_header X-Forwarded-Host $http_host;
      proxy_set_header X-Forwarded-Proto $scheme;
    }
    location /lost/ {
      proxy_pass ${upstream}/;
      proxy_set_header X-Forwarded-For $remote_addr;
      proxy_set_header X-Forwarded-Host $http_host;
    }
  }
  server {
    listen localhost:${port} ssl;
        location / {
      proxy_pass ${upstream};
      proxy_set_header X-Forwarded-For $remote_addr;
      proxy_set_header Host $http_host;
      proxy_set_header X-Forwarded-Proto $scheme;
    }
  }
}`;
    await writeFile(join(folder, "nginx.conf"), config);
    const child = spawn(NGINX ?? "", ["-e", "stderr", "-p", folder, "-c", join(folder, "nginx.conf")], {
      stdio: "ignore",
    });
    await vi.waitFor(
      async () => {
        expect(await fetch(`https://localhost:${port}`).then(() => "up", isListening)).toBe("up");
      },
      { interval: 100, timeout: 60_000 },
    );
    return child;
  }

  it("signs in and out at the public address, with cookies for https only", async () => {
    const context = await browser.newContext({ ignoreHTTPSErrors: true });
    const page = await context.newPage();
    await page.goto(`${publicOrigin}/tides`);
    await page.getByRole("link", { name: "Sign in with Quayside ID" }).click();
    await page.getByRole("button", { name: "Maren Holt" }).click();
    await page.getByRole("button", { name: "Yes, allow" }).click();
    await page.getByText("Ferrywell landing").waitFor();
    expect(page.url()).toBe(`${publicOrigin}/tides`);
    const own = (await context.cookies()).filter(({ name }) => name.includes("tenonsaw"));
    expect(own.map(({ name }) => name).sort()).toEqual([
      "__Host-tenonsaw-browser",
      "__Host-tenonsaw-session",
    ]);
    for (const { secure, httpOnly, sameSite } of own) {
      expect({ secure, httpOnly, sameSite }).toEqual({ secure: true, httpOnly: true, sameSite: "Lax" });
    }
    expect(app.events.some((event) => event.kind === "note" && event.note.includes("not at `origin`"))).toBe(
      false,
    );
    await context.close();
  });

  it("takes the origin of each request from the proxy that is named, where there are several", async () => {
    const addresses = ["127.0.0.1", "::1"];
    const proxies = { header: "x-forwarded" as const, addresses, otherOrigins: [clubOrigin] };
    const two = await startApp(practice, { origin: publicOrigin, proxies });
    const port = Number(new URL(publicOrigin).port);
    nginx.kill("SIGQUIT");
    await once(nginx, "exit");
    nginx = await startNginx(port, two.origin);
    practice.register({
      ...defaultClient,
      redirectUris: [publicOrigin, clubOrigin].map((origin) => `${origin}/sign-in/from/quayside`),
    });
    for (const origin of [publicOrigin, clubOrigin]) {
      const context = await browser.newContext({ ignoreHTTPSErrors: true });
      const page = await context.newPage();
      await page.goto(`${origin}/tides`);
      await page.getByRole("link", { name: "Sign in with Quayside ID" }).click();
      await page.getByRole("button", { name: "Maren Holt" }).click();
      await page.getByRole("button", { name: "Yes, allow" }).click();
      await page.getByText("Ferrywell landing").waitFor();
      expect(page.url()).toBe(`${origin}/tides`);
      await page.goto(`${clubOrigin}/lost/sign-in`);
      await page.getByText("X-Forwarded-Proto: https").waitFor();
      await context.close();
    }
    await two.stop();
  });

  it("tells the developer when `origin` is the private address instead of the public one", async () => {
    const inside = await startApp(practice);
    const headers = { host: new URL(publicOrigin).host, "x-forwarded-proto": "https" };
    await inside.signIn.handle(new Request(`${inside.origin}/sign-in/to/quayside`, { headers }));
    const [hint] = inside.events.flatMap((event) =>
      event.kind === "note" && event.note.includes("origin") ? [event] : [],
    );
    await inside.stop();
    expect(hint?.detail).toEqual({ browser: publicOrigin, origin: inside.origin });
  });
});

/** A certificate nobody vouches for is an answer, too. */
function isListening(error: unknown): "up" | "down" {
  const { cause } = error as { cause?: { code?: string } };
  return cause?.code === "ECONNREFUSED" ? "down" : "up";
}

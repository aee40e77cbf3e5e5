// npm run screenshots: the pictures in docs/screenshots/, taken from the demo data. Needs Chromium and, for the
// terminal, Xvfb, xterm and ImageMagick. On Debian: apt-get install xvfb xterm imagemagick.
import { execFileSync, spawn } from "node:child_process";
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { setTimeout as wait } from "node:timers/promises";
import { chromium } from "playwright-core";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { beginSignIn, finishSignIn, openProvider } from "tenonsaw";
import { serveByProcesses } from "../examples/ferrywell/dist/server/balance.js";
import { registration } from "../examples/ferrywell/dist/server/serve-ferrywell.js";
import { serveTidebook } from "../examples/ferrywell/dist/server/serve-tidebook.js";
import { ready } from "./ready.mjs";

const target = "docs/screenshots";
const [width, height] = [1280, 800];
const folder = mkdtempSync(join(tmpdir(), "tenonsaw-pictures-"));
mkdirSync(target, { recursive: true });
process.env.FERRYWELL_KEYS = Buffer.alloc(32, 5).toString("base64url");
process.env.QUAYSIDE_SECRET = defaultClient.clientSecret;
process.env.TENONSAW_KEYS = process.env.FERRYWELL_KEYS;

const practice = await startPractice({
  ports: { quayside: 4600, tidebook: 4700, harbour: 4800, lockgate: 4900, archive: 4970, ledger: 4980 },
  lifetimes: { accessTokenSeconds: 8 },
  withoutTidebook: true,
});
const tidebook = await serveTidebook(4700, practice.issuer, () => undefined);
const serve = (processes) =>
  serveByProcesses(5173, processes, {
    practice,
    database: join(folder, "ferrywell.db"),
    history: join(folder, "history.db"),
  });
let ferrywell = await serve(4);
practice.register(registration(ferrywell.origin));
try {
  await takePages();
  await takeReact();
  await takeWard();
  await takeTerminal();
} finally {
  await ferrywell.stop();
  await tidebook.stop();
  await practice.stop();
  rmSync(folder, { recursive: true });
}

function launch() {
  return chromium.launch({
    executablePath: ready().CHROMIUM,
    args: [
      "--no-sandbox",
      "--disable-gpu",
      "--disable-background-networking",
      "--disable-component-update",
      "--disable-sync",
    ],
  });
}

/** The example in React, by Vite as its README says. */
async function takeReact() {
  const origin = "http://localhost:5199";
  const registered = registration(ferrywell.origin);
  const redirectUris = ["quayside", "ledgerhouse"].map((name) => `${origin}/sign-in/from/${name}`);
  practice.register({ ...registered, redirectUris: [...registered.redirectUris, ...redirectUris] });
  const vite = spawn(process.execPath, ["../../node_modules/vite/bin/vite.js"], {
    cwd: "examples/ferrywell-react",
    env: {
      ...process.env,
      ORIGIN: origin,
      QUAYSIDE: practice.issuer,
      TIDEBOOK: practice.tidebook,
      LEDGERHOUSE: practice.ledger,
      DATABASE: join(folder, "react.db"),
    },
  });
  await new Promise((resolve) => vite.stdout.on("data", (text) => /Local/.test(text) && resolve()));
  const browser = await launch();
  const page = await browser.newPage({ viewport: { width, height } });
  const inWindow = async (name, ...presses) => {
    const opening = page.waitForEvent("popup");
    await page.getByRole("button", { name }).click();
    const popUp = await opening;
    for (const press of presses) await popUp.getByRole("button", { name: press }).click();
  };
  await page.goto(origin);
  await inWindow("Sign in with Quayside ID", "Maren Holt", "Yes, allow");
  await inWindow("Connect Ledgerhouse", "Maren Holt", "Ferrywell Rowing Club");
  await page.getByText("read the books").waitFor();
  await page.getByRole("button", { name: "Book Heron at 18:00" }).click();
  await page.getByText("This needs your agreement first").waitFor();
  await page.screenshot({ path: `${target}/ferrywell-react.png` });
  await browser.close();
  vite.kill();
}

/** An app that Boathouse Clinic shows in a frame. */
async function takeWard() {
  const origin = "http://localhost:5198";
  practice.register({
    clientId: "rowers-health",
    clientSecret: "only-for-practice",
    title: "Rowers' health",
    redirectUris: [`${origin}/sign-in/from/boathouse`],
    postLogoutRedirectUris: [],
    launchUrl: `${origin}/sign-in/launch`,
  });
  const rowersSettings = join(folder, "rowers.config.json");
  const own = readFileSync("examples/rowers-health/tenonsaw.config.json", "utf8");
  const clinic = new URL(practice.clinic).origin;
  writeFileSync(
    rowersSettings,
    own.replaceAll("http://localhost:5173", origin).replaceAll("http://127.0.0.1:4608", clinic),
  );
  const vite = spawn(process.execPath, ["../../node_modules/vite/bin/vite.js"], {
    cwd: "examples/rowers-health",
    env: {
      ...process.env,
      ORIGIN: origin,
      SETTINGS: rowersSettings,
      CLINIC_SECRET: "only-for-practice",
      DATABASE: join(folder, "rowers.db"),
    },
  });
  await new Promise((resolve) => vite.stdout.on("data", (text) => /Local/.test(text) && resolve()));
  const browser = await launch();
  const page = await browser.newPage({ viewport: { width, height } });
  await page.goto(`${practice.ward}?patient=rower-jun&banner=app`);
  await page
    .frameLocator("iframe")
    .getByRole("img", { name: /^Lactate/ })
    .waitFor();
  await page.screenshot({ path: `${target}/ward.png` });
  await browser.close();
  vite.kill();
}

async function takePages() {
  const browser = await launch();
  const page = await browser.newPage({ viewport: { width, height } });
  const take = (name) => page.screenshot({ path: `${target}/${name}.png` });
  const button = (name) => page.getByRole("button", { name });
  await page.goto(ferrywell.origin);
  await page.getByText("Sign in with Quayside ID").waitFor();
  await take("ferrywell-signed-out");
  await page.getByText("Sign in with Quayside ID").click();
  await button("Maren Holt").waitFor();
  await button("Maren Holt").click();
  await button("Yes, allow").waitFor();
  await take("quayside-consent");
  await button("Yes, allow").click();
  await page.getByText("Good to see you").waitFor();
  await page.locator("img.picture").evaluate((image) => image.decode());
  await take("ferrywell-signed-in");
  await button("Add Harbour Union").click();
  await button("Maren Holt").click();
  await button("Yes, allow").click();
  await button("Remove Harbour Union").waitFor();
  await signInOnPhone(browser);
  await page.reload();
  await page.getByRole("link", { name: "Read the tides" }).click();
  await page.locator("tbody tr").nth(3).waitFor();
  await wait(8500);
  await button("Read again").click();
  await page.getByText("renewed silently").waitFor();
  await take("ferrywell-tides");
  await page.getByRole("link", { name: "Slots" }).click();
  await button("Yes, allow").click();
  await button("Book 08:00").click();
  await page.getByText("Booked.").waitFor();
  await button("Free 08:00").click();
  await page.getByText("lacks a role").waitFor();
  for (const fault of ["other-audience", "id-token", "expired"])
    await fetch(`${practice.tidebook}/tides/today`, {
      headers: { authorization: `Bearer ${await practice.token({ fault })}` },
    });
  await page.goto(`${practice.tidebook}/guard/refusals`);
  await take("refusals");
  await page.goto(ferrywell.origin);
  await page.getByRole("link", { name: "Books" }).click();
  await connectCompany(page, "Connect Ledgerhouse", "Ferrywell Rowing Club", "ledgerhouse-window");
  await connectCompany(page, "Connect another company", "Ferrywell Boat Hire");
  await button("Test").first().click();
  await page.getByText("It works").waitFor();
  await take("ferrywell-books");
  await page.getByRole("link", { name: "History" }).click();
  for (let count = 0; count < 3; count += 1) {
    await page.getByText("expired; the next call renews it").waitFor();
    await button("Ask for the tides").click();
    await page.getByText("40 of 40 were answered.").waitFor();
    await page.getByText(/good for \d s more/).waitFor();
  }
  await take("ferrywell-history");
  for (const person of ["Ib", "Zoë"]) await signInElsewhere(person);
  await terminal("init", "init --framework express --folder first-app");
  await terminal("sessions", `sessions list --store ${join(folder, "ferrywell.db")}`);
  await page.goto(`${ferrywell.origin}/tides`);

  await button("Sign out").click();
  // What happened is told by the process where it did: here there is one.
  await ferrywell.stop();
  ferrywell = await serve(1);
  await page.goto(`${ferrywell.origin}/sign-in`);
  practice.rehearse("nonce-wrong");
  await page.getByText("Sign in with Quayside ID").click();
  await button("Maren Holt").click();
  await button("Yes, allow").click();
  await page.getByText("That did not work").waitFor();
  await take("problem-page");
  await page.getByRole("link", { name: "See what happened" }).click();
  await page.getByRole("heading", { name: "Sign-in at quayside" }).waitFor();
  await page.locator("li.failed").last().scrollIntoViewIfNeeded();
  await take("what-happened");
  practice.rehearse();
  await browser.close();
}

/** In a window of its own; the page behind it is told, and shows the company. */
async function connectCompany(page, name, company, picture) {
  const opened = page.waitForEvent("popup");
  await page.getByRole("button", { name }).click();
  const popUp = await opened;
  await popUp.getByRole("button", { name: "Maren Holt" }).click();
  await popUp.getByRole("button", { name: company }).waitFor();
  if (picture !== undefined) await popUp.screenshot({ path: `${target}/${picture}.png` });
  const loaded = page.waitForEvent("load");
  await popUp.getByRole("button", { name: company }).click();
  await loaded;
  await page.getByRole("heading", { name: company }).waitFor();
}

/** The same member once more, in another browser. */
async function signInOnPhone(browser) {
  const userAgent = "Mozilla/5.0 (Android 16; Mobile; rv:140.0) Gecko/140.0 Firefox/140.0";
  const context = await browser.newContext({ userAgent });
  const phone = await context.newPage();
  await phone.goto(ferrywell.origin);
  await phone.getByText("Sign in with Quayside ID").click();
  await phone.getByRole("button", { name: "Maren Holt" }).click();
  await phone.getByRole("button", { name: "Yes, allow" }).click();
  await phone.getByText("Good to see you").waitFor();
  await context.close();
}

async function signInElsewhere(person) {
  const visitor = createVisitor();
  await visitor.open(`${ferrywell.origin}/sign-in/to/quayside?returnTo=/`);
  await visitor.press(person);
  await visitor.press("Yes, allow");
}

/** An ID token for another client, held against Ferrywell's settings. */
async function takeTerminal() {
  const redirectUri = "http://localhost:5173/back";
  practice.register({ ...defaultClient, clientId: "ferrywell-staging", redirectUris: [redirectUri] });
  const provider = await openProvider({
    issuer: practice.issuer,
    clientId: "ferrywell-staging",
    clientSecret: defaultClient.clientSecret,
    scope: "openid profile email",
  });
  const { url, attempt } = await beginSignIn(provider, { redirectUri });
  const visitor = createVisitor();
  await visitor.open(url);
  const page = await visitor.press("Maren");
  const request = /name="request" value="([^"]+)"/.exec(page.text)[1];
  const answer = await visitor.fetch(`${practice.issuer}/authorize/decision`, {
    method: "POST",
    body: new URLSearchParams({ request, decision: "allow" }),
  });
  const outcome = await finishSignIn(provider, attempt, answer.headers.get("location"));
  const quayside = {
    issuer: practice.issuer,
    clientId: "ferrywell",
    clientSecret: { env: "QUAYSIDE_SECRET" },
    scope: "openid profile email offline_access tides.read",
  };
  writeFileSync(
    join(folder, "tenonsaw.config.json"),
    JSON.stringify({
      origin: "http://localhost:5173",
      providers: { quayside },
      apis: { tidebook: { provider: "quayside", origin: practice.tidebook, sample: "/tides/today" } },
    }),
  );
  writeFileSync(join(folder, "token.txt"), outcome.grant.idToken);
  await terminal("explain", "explain --settings tenonsaw.config.json < token.txt");
  practice.register({
    ...registration(ferrywell.origin),
    redirectUris: [`${ferrywell.origin}/sign-in/from/quayside/`],
  });
  await terminal("check-api", "check --api tidebook --scope tides.read --all");
  await terminal("check", "check quayside");
  practice.register(registration(ferrywell.origin));
  await terminal("sheet", "sheet quayside");
  // The app has to make room for its redirect URI, so another one is used here.
  const uri = "http://localhost:5199/try";
  practice.register({ ...registration(ferrywell.origin), redirectUris: [uri] });
  await terminal(
    "try",
    `try quayside --redirect-uri ${uri} --call http://localhost:4700/tides/today`,
    async () => {
      const url = await printedAddress();
      const someone = createVisitor();
      await someone.open(url);
      await someone.press("Maren");
      await someone.press("Yes, allow");
    },
  );
}

/** The address that `tenonsaw try` has printed into its terminal. */
async function printedAddress() {
  for (let round = 0; round < 50; round += 1) {
    await wait(200);
    const [, url] =
      /(http:\/\/localhost:\d+\/authorize\?\S+)/.exec(readFileSync(join(folder, "output.txt"), "utf8")) ?? [];
    if (url !== undefined) return url;
  }
  throw new Error(`no address in: ${readFileSync(join(folder, "output.txt"), "utf8")}`);
}

/** Runs the command in a terminal window on a screen of its own and takes a picture of it. */
async function terminal(name, args, meanwhile = async () => undefined) {
  const display = ":97";
  const screen = spawn("Xvfb", [display, "-screen", "0", `${width}x${height}x24`], { stdio: "ignore" });
  await wait(1000);
  const [script, output] = [join(folder, "terminal.sh"), join(folder, "output.txt")];
  const cli = join(process.cwd(), "packages/tenonsaw/bin/tenonsaw.js");
  writeFileSync(output, "");
  writeFileSync(
    script,
    `cd ${folder}\nprintf '%s\\n\\n' '$ tenonsaw ${args.replaceAll(`${folder}/`, "")}'\nnode ${cli} ${args} | tee ${output}\nsleep 60\n`,
  );
  const window = spawn(
    "xterm",
    [
      "-geometry",
      "159x47+0+0",
      "-fa",
      "DejaVu Sans Mono",
      "-fs",
      "10",
      "-bg",
      "#14181b",
      "-fg",
      "#e6e4de",
      "-e",
      "bash",
      script,
    ],
    { env: { ...process.env, DISPLAY: display, FORCE_COLOR: "1", COLUMNS: "159" }, stdio: "ignore" },
  );
  await meanwhile();
  await wait(3500);
  execFileSync("import", ["-display", display, "-window", "root", `${target}/${name}.png`]);
  window.kill();
  screen.kill();
  await wait(500);
}

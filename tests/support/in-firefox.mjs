// What a person does on a page, done in Firefox by WebDriver BiDi: node in-firefox.mjs <folder for the profile> <origin> <what>.
// Prints what it saw, a line each; ends with 1 where something was not to be seen.
import { spawn } from "node:child_process";

const [folder, origin, what] = process.argv.slice(2);
const pause = (milliseconds) => new Promise((resolve) => setTimeout(resolve, milliseconds));

const args = ["--headless", "--no-remote", "--profile", folder, "--remote-debugging-port=0"];
const firefox = spawn(process.env.FIREFOX, args, { env: { ...process.env, HOME: folder } });
const address = await new Promise((resolve, reject) => {
  let said = "";
  firefox.stderr.on("data", (text) => {
    said += text;
    const found = /BiDi listening on (ws:\S+)/.exec(said);
    if (found) resolve(found[1]);
  });
  firefox.on("close", () => reject(new Error(said)));
});
const socket = new WebSocket(`${address}/session`);
await new Promise((resolve) => socket.addEventListener("open", resolve));
const waiting = new Map();
socket.addEventListener("message", ({ data }) => {
  const { id, type, result, message } = JSON.parse(data);
  const asked = waiting.get(id);
  waiting.delete(id);
  if (type === "error") asked?.reject(new Error(message));
  else asked?.resolve(result);
});
const send = (method, params = {}) =>
  new Promise((resolve, reject) => {
    const id = waiting.size === 0 ? 1 : Math.max(...waiting.keys()) + 1;
    waiting.set(id, { resolve, reject });
    socket.send(JSON.stringify({ id, method, params }));
  });

function tabAt(context) {
  const evaluate = async (expression) => {
    const target = { context };
    const asked = { expression, target, awaitPromise: true, userActivation: true };
    const { type, result, exceptionDetails } = await send("script.evaluate", asked);
    if (type === "exception") throw new Error(exceptionDetails.text);
    return result.value;
  };
  const until = async (expression, name) => {
    for (let tries = 0; tries < 200; tries += 1) {
      if (await evaluate(expression).catch(() => false)) return;
      await pause(100);
    }
    throw new Error(`never saw ${name}: ${await evaluate("document.body.innerText")}`);
  };
  return {
    goTo: (url) => send("browsingContext.navigate", { context, url, wait: "complete" }),
    reload: () => send("browsingContext.reload", { context, wait: "complete" }),
    see: (text) => until(`document.body.innerText.includes(${JSON.stringify(text)})`, text),
    async press(text) {
      const found = `[...document.querySelectorAll("button,summary")].find((each) => each.innerText.includes(${JSON.stringify(text)}))`;
      await until(`Boolean(${found})`, text);
      await evaluate(`(${found}).click()`);
    },
  };
}
const openTab = async () => tabAt((await send("browsingContext.create", { type: "tab" })).context);
/** The window that has just been opened, once it is at the provider. */
async function openedWindow() {
  for (;;) {
    const { contexts } = await send("browsingContext.getTree");
    const found = contexts.find(({ url }) => url.includes("/authorize"));
    if (found) return tabAt(found.context);
    await pause(50);
  }
}
/** The app that the page at hand shows in a frame, once it has been launched. */
async function launchedFrame(besides) {
  for (;;) {
    const { contexts } = await send("browsingContext.getTree");
    const found = contexts.flatMap(({ children }) => children).find(({ url }) => url.includes("launched="));
    if (found && found.url !== besides?.url) return { url: found.url, ...tabAt(found.context) };
    await pause(50);
  }
}
/** Allows it there; the window may be gone before it has answered. */
async function allow(tab, isKnown = false) {
  if (!isKnown) await tab.press("Maren Holt");
  await tab.press("Yes, allow").catch(() => undefined);
}

const plays = {
  async launched(page) {
    const first = await launchedFrame();
    await first.see("Tamsin Reed: training");
    await page.goTo(`${origin}?patient=rower-jun&banner=app`);
    const second = await launchedFrame(first);
    await second.see("Jun Oakes, born 1987-11-29");
    await second.press("Close this record");
    await second.see("Choose a record at Boathouse Clinic");
  },
  async client(page) {
    await page.press("Sign in with Quayside ID");
    await allow(page);
    await page.see("Tides at Ferrywell landing");
    await page.reload();
    await page.see("Tides at Ferrywell landing");
    const other = await openTab();
    await other.goTo(origin);
    await other.see("Tides at Ferrywell landing");
    await page.press("Sign out");
    await other.see("Sign in with Quayside ID");
    await other.press("In a window of its own");
    await allow(await openedWindow());
    await other.see("Tides at Ferrywell landing");
    await page.goTo(origin);
    await page.see("Tides at Ferrywell landing");
  },
  async served(page) {
    await page.press("Sign in with Quayside ID");
    await allow(await openedWindow());
    await page.see("Good to see you, Maren Holt");
    await page.see("High water");
    await page.press("Book");
    await page.press("Go and agree");
    await allow(await openedWindow(), true);
    await page.see("Heron is yours");
    const other = await openTab();
    await other.goTo(origin);
    await other.see("Good to see you, Maren Holt");
    await page.press("Maren Holt");
    await page.press("Sign out");
    await other.see("Sign in with Quayside ID");
  },
};

try {
  await send("session.new", { capabilities: {} });
  const page = await openTab();
  await page.goTo(origin);
  await plays[what](page);
  console.log("all seen");
} catch (error) {
  console.error(error);
  process.exitCode = 1;
} finally {
  socket.close();
  firefox.kill("SIGKILL");
}

import axe from "axe-core";
import { fileURLToPath } from "node:url";
import {
  chromium,
  firefox,
  type Browser,
  type BrowserContext,
  type LaunchOptions,
  type Page,
} from "playwright-core";

/** Which browser the tests of pages run in: Chromium, or, with `PAGES_IN=firefox`, Debian's Firefox. */
export const isFirefox = process.env["PAGES_IN"] === "firefox";
/** Where that one is; undefined where it is not installed. */
export const pagesIn = process.env[isFirefox ? "FIREFOX" : "CHROMIUM"];

/** The colours that somebody prefers who prefers dark ones, where a test can say so. */
export const dark = isFirefox ? "light" : "dark";

/** The browser that the tests of pages run in, without a screen. */
export function openBrowser(): Promise<Browser> {
  if (!isFirefox) return chromium.launch(launchOptions(process.env["CHROMIUM_SHELL"] ?? pagesIn ?? ""));
  const executablePath = fileURLToPath(new URL("firefox.mjs", import.meta.url));
  return firefox.launch({ channel: "moz-firefox", executablePath });
}

/** Chromium without a screen, which speaks to this machine only. */
export function launchOptions(executablePath: string): LaunchOptions {
  return {
    executablePath,
    headless: true,
    args: [
      "--no-sandbox",
      "--disable-gpu",
      "--disable-quic",
      "--no-first-run",
      "--disable-background-networking",
      "--disable-component-update",
      "--disable-sync",
    ],
  };
}

/** What axe finds wrong with a page for people who do not see it, or see it otherwise. */
export async function axeFindings(page: Page): Promise<readonly string[]> {
  await page.evaluate(axe.source);
  const { violations } = await page.evaluate<{ violations: { id: string; nodes: unknown[] }[] }>("axe.run()");
  return violations.map(({ id, nodes }) => `${id}: ${JSON.stringify(nodes)}`);
}

/** Lets no request to such addresses through until it is told to. */
export async function heldBack(at: BrowserContext | Page, url: string): Promise<() => void> {
  let letThrough: () => void = () => undefined;
  const held = new Promise<void>((resolve) => (letThrough = resolve));
  await at.route(url, async (route) => {
    await held;
    await route.continue();
  });
  return letThrough;
}

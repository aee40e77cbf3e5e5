import axe from "axe-core";
import type { BrowserContext, LaunchOptions, Page } from "playwright-core";

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

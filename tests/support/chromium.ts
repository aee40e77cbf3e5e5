import type { LaunchOptions } from "playwright-core";

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

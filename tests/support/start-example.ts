import { mkdtemp, readFile, rm, writeFile } from "node:fs/promises";
import { join } from "node:path";
import { expect, vi } from "vitest";
import { defaultClient, startPractice, type Practice } from "tenonsaw-practice";
import { freePorts } from "../../scripts/servers.mjs";
import { root, start, type Running } from "./processes.js";

export interface Example {
  readonly origin: string;
  readonly practice: Practice;
  /** Where its files are. */
  readonly folder: string;
  readonly running: Running;
  readonly stop: (signal?: NodeJS.Signals) => Promise<void>;
}

/** Starts an example's `server.js` as it stands, but for its ports and files, with practice providers of its own. */
export async function startExample(
  name: string,
  provider: string,
  env: Readonly<Record<string, string>> = {},
): Promise<Example> {
  const port = await freePorts(1);
  const origin = `http://localhost:${port}`;
  const redirectUris = [`${origin}/sign-in/from/${provider}`];
  const practice = await startPractice({ clients: [{ ...defaultClient, redirectUris }] });
  const folder = await mkdtemp(`${root}examples/${name}/.trial-`);
  const program = (await readFile(`${root}examples/${name}/server.js`, "utf8"))
    .replaceAll("5173", String(port))
    .replaceAll("http://localhost:4600", practice.issuer)
    .replaceAll("http://localhost:4601", practice.tidebook)
    .replaceAll("http://localhost:4606", practice.ledger)
    .replaceAll("./spans.js", "../spans.js")
    .replaceAll("./tidebook.js", "../tidebook.js")
    .replaceAll(/\b(\w+\.db)\b/g, (file) => join(folder, file));
  await writeFile(join(folder, "server.mjs"), program);
  const secrets = {
    TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url"),
    QUAYSIDE_SECRET: "only-for-practice",
    LEDGERHOUSE_SECRET: "only-for-practice",
  };
  const running = start(join(folder, "server.mjs"), [], { env: { ...secrets, ...env } });
  const stop = async (signal: NodeJS.Signals = "SIGKILL") => {
    running.signal(signal);
    await running.finished;
    await practice.stop();
    await rm(folder, { recursive: true });
  };
  const status = () =>
    fetch(origin).then(
      (answer) => answer.status,
      () => 0,
    );
  try {
    await vi.waitFor(async () => expect(await status()).toBe(401), { timeout: 60_000, interval: 50 });
  } catch (error) {
    await stop();
    throw error;
  }
  return { origin, practice, folder, running, stop };
}

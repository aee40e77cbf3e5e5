import { mkdtemp, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { defaultClient, startPractice, type Client, type Practice } from "tenonsaw-practice";
import { serveTidebook } from "../../examples/ferrywell/dist/server/serve-tidebook.js";
import { freePorts, root, start } from "./processes.js";

export interface ServedPage {
  readonly origin: string;
  readonly practice: Practice;
  stop(): Promise<void>;
}

/** Starts an example with a page by Vite as its README says, but for its ports and files, with practice providers of its own. */
export async function startPage(
  name: string,
  {
    client = {},
    lifetimes = {},
    args = [],
  }: {
    readonly client?: Partial<Client>;
    readonly lifetimes?: { readonly accessTokenSeconds?: number };
    readonly args?: readonly string[];
  } = {},
): Promise<ServedPage> {
  const first = await freePorts(2);
  const [origin, api] = [`http://localhost:${first}`, first + 1];
  const registered: Client = {
    ...defaultClient,
    redirectUris: ["quayside", "ledgerhouse"].map((each) => `${origin}/sign-in/from/${each}`),
    postLogoutRedirectUris: [`${origin}/sign-in/out/done`],
    ...client,
  };
  const practice = await startPractice({
    clients: [registered],
    ports: { tidebook: api },
    withoutTidebook: true,
    pageOrigins: [origin],
    lifetimes,
  });
  const tidebook = await serveTidebook(api, practice.issuer);
  const folder = await mkdtemp(join(tmpdir(), "page-"));
  const running = start("node_modules/vite/bin/vite.js", args, {
    cwd: `${root}examples/${name}`,
    env: {
      ORIGIN: origin,
      QUAYSIDE: practice.issuer,
      TIDEBOOK: practice.tidebook,
      LEDGERHOUSE: practice.ledger,
      DATABASE: join(folder, "app.db"),
      TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url"),
      QUAYSIDE_SECRET: "only-for-practice",
    },
  });
  await running.waitFor("Local:");
  return {
    origin,
    practice,
    async stop() {
      running.signal("SIGKILL");
      await running.finished;
      await Promise.all([practice.stop(), tidebook.stop()]);
      await rm(folder, { recursive: true });
    },
  };
}

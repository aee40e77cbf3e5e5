import { mkdtemp, readFile, rm, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { defaultClient, startPractice, type Client, type Practice } from "tenonsaw-practice";
import { serveTidebook } from "../../examples/ferrywell/dist/server/serve-tidebook.js";
import { freePorts } from "../../scripts/servers.mjs";
import { root, start } from "./processes.js";

export interface ServedPage {
  readonly origin: string;
  readonly practice: Practice;
  /** What the practice providers were asked, such as `quayside: POST /token → 200`. */
  readonly requests: string[];
  stop(): Promise<void>;
}

/** The example's own settings, where it has a file of them, with the addresses of this run. */
async function settingsOf(name: string, folder: string, origin: string, practice: Practice): Promise<string> {
  const file = join(folder, "tenonsaw.config.json");
  const own = await readFile(`${root}examples/${name}/tenonsaw.config.json`, "utf8").catch(() => "{}");
  const clinic = new URL(practice.clinic).origin;
  await writeFile(
    file,
    own.replaceAll("http://localhost:5173", origin).replaceAll("http://127.0.0.1:4608", clinic),
  );
  return file;
}

/** Starts an example with a page by Vite as its README says, but for its ports and files, with practice providers of its own. */
export async function startPage(
  name: string,
  {
    client = {},
    lifetimes = {},
    isBuilt = false,
    env = {},
    pages,
    host = "localhost",
  }: {
    readonly client?: Partial<Client>;
    readonly lifetimes?: { readonly accessTokenSeconds?: number };
    /** Builds the page and serves that, in place of `vite` as one develops with it. */
    readonly isBuilt?: boolean;
    readonly env?: Readonly<Record<string, string>>;
    /** Origins that may call Tidebook across origins. Default: the page's. */
    readonly pages?: readonly string[];
    /** What the page is seen at. Default: localhost. */
    readonly host?: string;
  } = {},
): Promise<ServedPage> {
  const first = await freePorts(2);
  const [origin, api] = [`http://${host}:${first}`, first + 1];
  // A page has no secret.
  const { clientSecret, ...withoutSecret } = defaultClient;
  const registered: Client = {
    ...withoutSecret,
    ...(client.clientId === undefined && { clientSecret: clientSecret ?? "" }),
    redirectUris: [
      ...["quayside", "ledgerhouse", "boathouse"].map((each) => `${origin}/sign-in/from/${each}`),
      `${origin}/`,
    ],
    postLogoutRedirectUris: [`${origin}/sign-in/out/done`, `${origin}/`],
    launchUrl: `${origin}/sign-in/launch`,
    ...client,
  };
  const requests: string[] = [];
  const practice = await startPractice({
    clients: [registered],
    ports: { tidebook: api },
    withoutTidebook: true,
    pageOrigins: [origin],
    lifetimes,
    log: (line) => requests.push(line),
  });
  const tidebook = await serveTidebook(api, practice.issuer, undefined, pages ?? [origin]);
  const folder = await mkdtemp(join(tmpdir(), "page-"));
  const place = {
    cwd: `${root}examples/${name}`,
    env: {
      ORIGIN: origin,
      QUAYSIDE: practice.issuer,
      TIDEBOOK: practice.tidebook,
      VITE_QUAYSIDE: practice.issuer,
      VITE_TIDEBOOK: practice.tidebook,
      LEDGERHOUSE: practice.ledger,
      SETTINGS: await settingsOf(name, folder, origin, practice),
      CLINIC_SECRET: "only-for-practice",
      DATABASE: join(folder, "app.db"),
      TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url"),
      QUAYSIDE_SECRET: "only-for-practice",
      ...env,
    },
  };
  const vite = "node_modules/vite/bin/vite.js";
  const out = ["--outDir", join(folder, "built")];
  if (isBuilt) {
    const { code, errors } = await start(vite, ["build", ...out], place).finished;
    if (code !== 0) throw new RangeError(errors);
  }
  const running = start(vite, isBuilt ? ["preview", ...out] : [], place);
  await running.waitFor("Local:");
  return {
    origin,
    practice,
    requests,
    async stop() {
      running.signal("SIGKILL");
      await running.finished;
      await Promise.all([practice.stop(), tidebook.stop()]);
      await rm(folder, { recursive: true });
    },
  };
}

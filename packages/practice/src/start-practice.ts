import { people, type Person } from "./people.js";
import { createQuayside } from "./quayside/app.js";
import { createSigningKeys, type SigningAlgorithm } from "./quayside/signing-keys.js";
import type { Client, Lifetimes, QuaysideState } from "./quayside/state.js";
import { isRehearsal, rehearsals, type RehearsalName } from "./rehearsals.js";
import { serve, type Served } from "./serve.js";
import { createTidebook } from "./tidebook/app.js";

export interface PracticeOptions {
  /** Ports on localhost. 0, the default, takes free ones. */
  readonly ports?: { readonly quayside?: number; readonly tidebook?: number };
  /** IDs of the people to offer. Default: all of them. */
  readonly people?: readonly string[];
  /** In seconds. Default: access tokens 30, ID tokens 300, codes 60. */
  readonly lifetimes?: Partial<Lifetimes>;
  /** Registered clients. Default: `defaultClient`. */
  readonly clients?: readonly Client[];
  /** Signs ID tokens and access tokens. Default: RS256. */
  readonly algorithm?: SigningAlgorithm;
  /** A fault to play from the start. */
  readonly rehearsal?: RehearsalName;
  /** The practice's clock, in seconds since the epoch. */
  readonly now?: () => number;
  /** Is told each request: method, path and status, nothing secret. */
  readonly log?: (line: string) => void;
}

export interface Practice {
  /** Issuer URL of Quayside ID. */
  readonly issuer: string;
  /** Origin of Tidebook. */
  readonly tidebook: string;
  /** The first registered client. */
  readonly client: Client;
  readonly people: readonly Person[];
  /** Registers another client, or one anew. */
  register(client: Client): void;
  /** Plays a fault for everybody until the next call; without a name, none. */
  rehearse(name?: RehearsalName): void;
  /** Quayside ID signs with a new key from now on. */
  rotateKeys(): Promise<void>;
  stop(): Promise<void>;
}

/** The client that the demo uses, for an app at http://localhost:5173. */
export const defaultClient: Client = {
  clientId: "ferrywell",
  clientSecret: "only-for-practice",
  title: "Ferrywell",
  redirectUris: ["http://localhost:5173/sign-in/from/quayside"],
  postLogoutRedirectUris: ["http://localhost:5173/sign-in/out/done"],
};

/**
 * Starts Quayside ID and Tidebook on this machine.
 *
 * @throws PortInUseError, and RangeError for people or rehearsals that there are not
 */
export async function startPractice(options: PracticeOptions = {}): Promise<Practice> {
  const now = options.now ?? (() => Date.now() / 1000);
  const clients = options.clients ?? [defaultClient];
  const [client = defaultClient] = clients;
  const ending = new AbortController();
  const algorithm = options.algorithm ?? "RS256";
  requireRehearsal(options.rehearsal);
  const present = choosePeople(options.people);
  const keys = await createSigningKeys(algorithm);

  // The addresses are known once the ports are, so the servers come first and are given their work after that.
  const handlers: { quayside?: Handler; tidebook?: Handler } = {};
  const start = (name: "quayside" | "tidebook") =>
    serve(options.ports?.[name] ?? 0, async (request) => {
      const response = (await handlers[name]?.(request)) ?? new Response("Starting.", { status: 503 });
      options.log?.(`${name}: ${request.method} ${new URL(request.url).pathname} → ${response.status}`);
      return response;
    });
  const quayside = await start("quayside");
  const tidebook = await start("tidebook").catch(async (error: unknown) => {
    await quayside.stop();
    throw error;
  });
  const [issuer, audience] = [quayside, tidebook].map(({ port }: Served) => `http://localhost:${port}`) as [
    string,
    string,
  ];
  const state: QuaysideState = {
    issuer,
    audience,
    people: present,
    clients: new Map(clients.map((each) => [each.clientId, each])),
    lifetimes: { accessTokenSeconds: 30, idTokenSeconds: 300, codeSeconds: 60, ...options.lifetimes },
    now,
    keys,
    pending: new Map(),
    codes: new Map(),
    refreshTokens: new Map(),
    accessTokens: new Map(),
    browsers: new Map(),
    rehearsal: options.rehearsal,
    ended: ending.signal,
  };
  handlers.quayside = createQuayside(state).fetch;
  handlers.tidebook = createTidebook({ issuer, audience, keySetUrl: `${issuer}/keys`, algorithm, now }).fetch;

  return {
    issuer,
    tidebook: audience,
    client,
    people: present,
    register: (each) => void state.clients.set(each.clientId, each),
    rehearse(name) {
      requireRehearsal(name);
      state.rehearsal = name;
    },
    rotateKeys: () => keys.rotate(),
    async stop() {
      ending.abort();
      await Promise.all([quayside.stop(), tidebook.stop()]);
    },
  };
}

type Handler = (request: Request) => Response | Promise<Response>;

function requireRehearsal(name: string | undefined): void {
  if (name === undefined || isRehearsal(name)) return;
  throw new RangeError(
    `No rehearsal ${JSON.stringify(name)}. There are: ${rehearsals.map((each) => each.name).join(", ")}.`,
  );
}

function choosePeople(ids: readonly string[] = people.map(({ id }) => id)): readonly Person[] {
  return ids.map((id) => {
    const found = people.find((person) => person.id === id);
    if (!found) {
      throw new RangeError(
        `Nobody is called ${JSON.stringify(id)}. There are: ${people.map((each) => each.id).join(", ")}.`,
      );
    }
    return found;
  });
}

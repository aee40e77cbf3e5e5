import { people, type Person } from "./people.js";
import { createAuthority, type CertificateAuthority } from "./certificates.js";
import { Hono } from "hono";
import { cors } from "hono/cors";
import { createBoathouse } from "./boathouse/app.js";
import { createRecords } from "./boathouse/records.js";
import { baseOf } from "./boathouse/state.js";
import { createLedgerhouse } from "./ledgerhouse/app.js";
import { createLockgate } from "./lockgate/app.js";
import { createQuayside } from "./quayside/app.js";
import { createSigningKeys, signingAlgorithms, type SigningAlgorithm } from "./quayside/signing-keys.js";
import { randomText } from "./random-text.js";
import { requireClient, type Client, type Lifetimes, type QuaysideState } from "./quayside/state.js";
import { createOldWharf } from "./old-wharf/app.js";
import { requireKnownNames, requireNumbers } from "./known-names.js";
import { createProver, type ProofWish } from "./proofs.js";
import { isRehearsal, rehearsals, type RehearsalName } from "./rehearsals.js";
import { serve, type Served } from "./serve.js";
import { createSlipway } from "./slipway/app.js";
import { createTidebook } from "./tidebook/app.js";
import { makeToken, type TokenWish } from "./tokens.js";

export interface PracticeOptions {
  /** Ports on localhost. 0, the default, takes free ones. */
  readonly ports?: Partial<Readonly<Record<StandIn, number>>>;
  /** IDs of the people to offer. Default: all of them. */
  readonly people?: readonly string[];
  /** In seconds. Default: access tokens 30, ID tokens 300, codes 60, unused refresh tokens of Ledgerhouse 3600. */
  readonly lifetimes?: Partial<Lifetimes>;
  /** Registered clients. Default: `defaultClient`. */
  readonly clients?: readonly Client[];
  /** Signs ID tokens and access tokens. Default: RS256. */
  readonly algorithm?: SigningAlgorithm;
  /** A fault to play from the start. */
  readonly rehearsal?: RehearsalName;
  /** Leaves Tidebook's place to an API of your own: its tokens are still for `tidebook`. Default: false. */
  readonly withoutTidebook?: boolean;
  /** Serves Quayside ID and Tidebook over TLS as well, for apps that prove themselves by a certificate (RFC 8705). */
  readonly certificates?: boolean;
  /** The practice's clock, in seconds since the epoch. */
  readonly now?: () => number;
  /** Origins whose pages may ask these servers by themselves, across origins (CORS). Default: none. */
  readonly pageOrigins?: readonly string[];
  /** Is told each request: method, path and status, nothing secret. */
  readonly log?: (line: string) => void;
}

export interface Practice {
  /** Issuer URL of Quayside ID. */
  readonly issuer: string;
  /** Origin of Tidebook. */
  readonly tidebook: string;
  /** Where Harbour Union is: an OpenID provider whose organisations are issuers of their own. */
  readonly harbour: string;
  /** Where Lockgate Permits is: plain OAuth 2.0, odd in several ways. */
  readonly lockgate: string;
  /** Where Old Wharf Archive is: OAuth 1.0a, and an API of boxes. */
  readonly archive: string;
  /** Where Ledgerhouse is: an accounting service with companies, plain OAuth 2.0 with refresh tokens that rotate and die unused. */
  readonly ledger: string;
  /** Its sandbox, which shares nothing with it. */
  readonly ledgerSandbox: string;
  /** Base URL of Boathouse Clinic's FHIR server: a host that opens apps. Its ward is at `ward`. */
  readonly clinic: string;
  /** The same of its other house. */
  readonly clinicElsewhere: string;
  /** The page of the clinic that opens apps. */
  readonly ward: string;
  /** Origin of Slipway, an API for machines. */
  readonly slipway: string;
  /** With the option `certificates`: who issues them, and where Tidebook takes them. */
  readonly secure?: { readonly authority: CertificateAuthority; readonly tidebook: string };
  /** The first registered client. */
  readonly client: Client;
  readonly people: readonly Person[];
  /** Registers another client, or one anew. */
  register(client: Client): void;
  /** Plays a fault for everybody until the next call; without a name, none. */
  rehearse(name?: RehearsalName): void;
  /** An access token of Quayside ID, right or with a fault, for a test of an API. */
  token(wish?: TokenWish): Promise<string>;
  /** A proof of possession for a call with a token that is `bound`, right or with a fault. */
  proof(wish: ProofWish): Promise<string>;
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
 * Starts Quayside ID, Harbour Union, Lockgate Permits, Old Wharf Archive, Ledgerhouse, Boathouse Clinic, Tidebook and Slipway on
 * this machine.
 *
 * @throws PortInUseError, and RangeError for options, people or rehearsals that there are not
 */
export async function startPractice(options: PracticeOptions = {}): Promise<Practice> {
  requireKnownNames("startPractice", options, optionNames);
  requireNumbers("ports", options.ports, standIns);
  requireNumbers("lifetimes", options.lifetimes, Object.keys(usualLifetimes));
  if (options.now !== undefined && typeof options.now !== "function")
    throw new RangeError("startPractice takes a function as now.");
  const now = options.now ?? (() => Date.now() / 1000);
  const clients = options.clients ?? [defaultClient];
  if (!(Symbol.iterator in Object(clients))) throw new RangeError("startPractice takes a list of clients.");
  for (const each of clients) requireClient(each);
  const [client = defaultClient] = clients;
  const ending = new AbortController();
  const algorithm = options.algorithm ?? "RS256";
  if (!signingAlgorithms.includes(algorithm))
    throw new RangeError(
      `No algorithm ${JSON.stringify(algorithm)}. There are: ${signingAlgorithms.join(", ")}.`,
    );
  requireRehearsal(options.rehearsal);
  const present = choosePeople(options.people);
  const keys = await createSigningKeys(algorithm);

  // The addresses are known once the ports are, so the servers come first and are given their work after that.
  const handlers = new Map<StandIn, Handler>();
  const served = new Map<StandIn, Served>();
  const secured = new Map<StandIn, Served>();
  const stop = () => Promise.all([...served.values(), ...secured.values()].map((each) => each.stop()));
  const answerAs = (name: StandIn) => {
    const door = new Hono();
    door.use(
      cors({ origin: [...(options.pageOrigins ?? [])], exposeHeaders: ["www-authenticate", "dpop-nonce"] }),
    );
    door.all("*", async (c) => (await handlers.get(name)?.(c.req.raw)) ?? c.text("Starting.", 503));
    return async (request: Request) => {
      const response = await door.fetch(request);
      // The practice's own clock, so that a wrong one can be rehearsed and noticed.
      response.headers.set("date", new Date(now() * 1000).toUTCString());
      options.log?.(`${name}: ${request.method} ${new URL(request.url).pathname} → ${response.status}`);
      return response;
    };
  };
  for (const name of standIns) {
    if (name === "tidebook" && options.withoutTidebook === true) continue;
    try {
      const host = name === "clinic" ? clinicHost : "localhost";
      served.set(name, await serve(options.ports?.[name] ?? 0, answerAs(name), undefined, host));
    } catch (error) {
      await stop();
      throw error;
    }
  }
  const authority = options.certificates === true ? await createAuthority() : undefined;

  if (authority) {
    const { certificate, key } = await authority.issue("localhost");
    const secure = { cert: certificate, key, ca: authority.certificate };
    for (const name of ["quayside", "tidebook"] as const)
      secured.set(name, await serve(0, answerAs(name), secure));
  }
  const secureOriginOf = (name: StandIn) => `https://localhost:${secured.get(name)?.port ?? 0}`;
  const originOf = (name: StandIn) =>
    `http://${name === "clinic" ? clinicHost : "localhost"}:${served.get(name)?.port ?? options.ports?.[name] ?? 0}`;
  const [issuer, audience] = [originOf("quayside"), originOf("tidebook")];
  const registered = new Map(clients.map((each) => [each.clientId, each]));
  const state: QuaysideState = {
    brand: "Quayside ID",
    issuer,
    hasOrganisations: false,
    ...(authority && { secureOrigin: secureOriginOf("quayside") }),
    audience,
    machineAudience: originOf("slipway"),
    people: present,
    clients: registered,
    lifetimes: { ...usualLifetimes, ...options.lifetimes },
    now,
    keys,
    prover: await createProver(now),
    ...createMemory(),
    rehearsal: options.rehearsal,
    ended: ending.signal,
  };
  const harbour: QuaysideState = {
    ...state,
    ...createMemory(),
    brand: "Harbour Union",
    issuer: originOf("harbour"),
    hasOrganisations: true,
    audience: originOf("harbour"),
    keys: await createSigningKeys("ES256"),
  };
  handlers.set("quayside", createQuayside(state).fetch);
  handlers.set("harbour", createQuayside(harbour).fetch);
  const archive = originOf("archive");
  const wharf = {
    origin: archive,
    people: present,
    clients: registered,
    now,
    rehearsal: () => state.rehearsal,
  };
  handlers.set("archive", createOldWharf(wharf).fetch);
  handlers.set("lockgate", createLockgate({ people: present, clients: registered }).fetch);
  const { accessTokenSeconds, refreshIdleSeconds } = state.lifetimes;
  for (const name of ["ledger", "ledgerSandbox"] as const) {
    const isSandbox = name === "ledgerSandbox";
    const books = { people: present, clients: registered, now, accessTokenSeconds, isSandbox };
    handlers.set(name, createLedgerhouse({ ...books, idleSeconds: refreshIdleSeconds }).fetch);
  }
  const records = createRecords(now());
  const clinic = {
    origin: originOf("clinic"),
    people: present,
    clients: registered,
    now,
    accessTokenSeconds,
    keys: await createSigningKeys("RS256"),
    rehearsal: () => state.rehearsal,
    records: () => records,
    openings: new Map(),
    requests: new Map(),
    codes: new Map(),
    accessTokens: new Map(),
    refreshTokens: new Map(),
    assertions: new Set<string>(),
  };
  handlers.set("clinic", createBoathouse(clinic).fetch);
  const door = { isIssuer: (iss: string) => iss === issuer, keySetUrl: `${issuer}/keys`, algorithm, now };
  handlers.set("tidebook", createTidebook({ ...door, audience }).fetch);
  handlers.set("slipway", createSlipway({ ...door, audience: state.machineAudience }).fetch);

  return {
    issuer,
    tidebook: audience,
    harbour: harbour.issuer,
    lockgate: originOf("lockgate"),
    archive,
    ledger: originOf("ledger"),
    ledgerSandbox: originOf("ledgerSandbox"),
    clinic: baseOf(clinic, "riverside"),
    clinicElsewhere: baseOf(clinic, "mill-lane"),
    ward: `${clinic.origin}/riverside/ward`,
    slipway: state.machineAudience,
    ...(authority && { secure: { authority, tidebook: secureOriginOf("tidebook") } }),
    client,
    people: present,
    register(each) {
      requireClient(each);
      registered.set(each.clientId, each);
    },
    rehearse(name) {
      requireRehearsal(name);
      state.rehearsal = name;
    },
    token: (wish) => makeToken(state, wish),
    proof: (wish) => state.prover.prove(wish),
    rotateKeys: () => keys.rotate(),
    async stop() {
      ending.abort();
      await stop();
    },
  };
}

/** Another site than the apps at localhost, so that a frame of the clinic's is a frame of a stranger's. */
const clinicHost = "127.0.0.1";

const standIns = [
  "quayside",
  "tidebook",
  "harbour",
  "lockgate",
  "slipway",
  "archive",
  "ledger",
  "ledgerSandbox",
  "clinic",
] as const;
type StandIn = (typeof standIns)[number];

function createMemory() {
  return {
    pending: new Map(),
    pushed: new Map(),
    devices: new Map(),
    dpopNonce: randomText(),
    proofs: new Set(),
    assertions: new Set(),
    codes: new Map(),
    refreshTokens: new Map(),
    opaqueTokens: new Map(),
    accessTokens: new Map(),
    browsers: new Map(),
  } satisfies Partial<QuaysideState>;
}

type Handler = (request: Request) => Response | Promise<Response>;

const usualLifetimes: Lifetimes = {
  accessTokenSeconds: 30,
  idTokenSeconds: 300,
  codeSeconds: 60,
  refreshIdleSeconds: 3600,
};

const optionNames: Readonly<Record<keyof PracticeOptions, true>> = {
  ports: true,
  people: true,
  lifetimes: true,
  clients: true,
  algorithm: true,
  rehearsal: true,
  withoutTidebook: true,
  certificates: true,
  now: true,
  pageOrigins: true,
  log: true,
};

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

import { createClient, createCluster, ErrorReply } from "redis";

/** What a store asks with: one server's client, and a cluster's, which has the same commands. */
export type RedisClient = ReturnType<typeof makeClient>;

/** The connection to a server or a cluster, whichever is found at the address. */
export interface RedisLink {
  readonly client: RedisClient;
  readonly open: () => Promise<void>;
  /** Begins anew: what does not answer may never have noticed that the network is gone. */
  readonly renew: () => void;
  /** Why there is no connection, where that was said. */
  readonly said: () => Error | undefined;
  /** What went wrong with a call: in a cluster another node may have taken over, and is looked for. */
  readonly failed: (error: unknown) => void;
  /** By which policy keys are dropped when the memory is full; undefined where none is, or the server does not say. */
  readonly evictsBy: () => Promise<string | undefined>;
  /** How many replicas have all that was written over this connection; waits for so many, a second at the most. */
  readonly replicated: (count: number) => Promise<number>;
  readonly close: () => Promise<void>;
  readonly destroy: () => void;
}

/** A node that is gone is looked past so often. */
const pauseMilliseconds = 1000;
/** What was written is on its replicas within so long, or does not count. */
const replicationMilliseconds = 1000;

// While a server is away calls fail at once, instead of piling up for when it is back.
const common = { disableOfflineQueue: true } as const;
const connectTimeout = 5000;

function makeClient(url: string, hear: (error?: Error) => void) {
  const reconnectStrategy = (retries: number) => Math.min(50 * 2 ** retries, 2000);
  const client = createClient({ ...common, url, socket: { connectTimeout, reconnectStrategy } });
  client.on("error", hear);
  client.on("ready", () => hear());
  return client;
}

interface Node {
  readonly host: string;
  readonly port: number;
}

function makeCluster(url: string, nodes: readonly Node[]) {
  const { username, password, protocol } = new URL(url);
  const cluster = createCluster({
    rootNodes: nodes.map(({ host, port }) => ({ socket: { host, port } })),
    // Nobody waits for a node that may be gone for good: its place is asked for again.
    minimizeConnections: true,
    defaults: {
      ...common,
      ...(username !== "" && { username: decodeURIComponent(username) }),
      ...(password !== "" && { password: decodeURIComponent(password) }),
      socket: { connectTimeout, reconnectStrategy: false, ...(protocol === "rediss:" && { tls: true }) },
    },
  });
  cluster.on("error", () => undefined);
  return cluster;
}

/** @param key in whose slot everything is, where it is a cluster */
export function createLink(url: string, key: string): RedisLink {
  let said: Error | undefined;
  const hear = (error?: Error) => {
    said = error;
  };
  let single = makeClient(url, hear);
  let cluster: ReturnType<typeof makeCluster> | undefined;
  let slot: number | undefined;
  const nodeOf = async (asked: NonNullable<typeof cluster>) => {
    slot ??= Number(await asked.sendCommand(key, true, ["CLUSTER", "KEYSLOT", key]));
    const master = asked.slots[slot]?.master;
    if (!master) throw new Error(`no node has the slot ${slot}`);
    return asked.nodeClient(master);
  };
  let [isClosed, isConnecting, renewedAt] = [false, false, -Infinity];
  // Where a cluster was last seen to be: the node that it was found by may be the one that is gone.
  const { hostname, port } = new URL(url);
  let nodes: readonly Node[] = [{ host: hostname, port: Number(port === "" ? 6379 : port) }];
  const noteNodes = () => {
    const seen = cluster ? [...cluster.masters, ...cluster.replicas] : [];
    if (seen.length > 0) nodes = seen.map(({ host, port: at }) => ({ host, port: at }));
  };
  const current = () => (cluster ?? single) as RedisClient;
  const connect = async () => {
    isConnecting = true;
    try {
      await current().connect();
      noteNodes();
    } finally {
      isConnecting = false;
    }
  };
  const link: RedisLink = {
    get client() {
      return current();
    },
    said: () => said,
    async open() {
      await connect();
      if (!(await isOfCluster(single))) return;
      single.destroy();
      cluster = makeCluster(url, nodes);
      await connect();
    },
    renew() {
      if (isClosed) return;
      renewedAt = performance.now();
      noteNodes();
      const before = current();
      if (cluster) cluster = makeCluster(url, nodes);
      else single = makeClient(url, hear);
      before.destroy();
      connect().catch(() => undefined);
    },
    failed(error) {
      // A server's client finds its server again by itself.
      const isAbout = !(error instanceof ErrorReply) || /^(CLUSTERDOWN|MOVED)/.test(error.message);
      if (!cluster || isConnecting || !isAbout || performance.now() - renewedAt < pauseMilliseconds) return;
      link.renew();
    },
    async evictsBy() {
      const told = await current()
        .info("memory")
        .catch(() => "");
      const [, policy] = /^maxmemory_policy:(\S+)/m.exec(told) ?? [];
      return policy === "noeviction" || !/^maxmemory:[1-9]/m.test(told) ? undefined : policy;
    },
    async replicated(count) {
      // Of the very node that was written to: a cluster's client would ask all of them.
      const at = cluster ? await nodeOf(cluster) : single;
      return Number(await at.sendCommand(["WAIT", String(count), String(replicationMilliseconds)]));
    },
    async close() {
      if (isClosed) return;
      isClosed = true;
      await current().close();
    },
    destroy() {
      isClosed = true;
      current().destroy();
    },
  };
  return link;
}

/** Some services do not let everybody ask; a cluster of theirs then answers with where else to ask, and the store says so. */
async function isOfCluster(client: RedisClient): Promise<boolean> {
  const told = await client.info("cluster").catch(() => "");
  return /^cluster_enabled:1/m.test(told);
}

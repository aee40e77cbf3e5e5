/** A real server on a free port of this machine, with a folder of its own. */
export interface Server {
  readonly url: string;
  /** Ends it at once, as a crash would, and keeps what it has written. */
  readonly kill: () => Promise<void>;
  /** Starts it again, at the same port. */
  readonly restart: () => Promise<void>;
  /** Lets it stand still, connections and all, as an overloaded machine does; and go on. */
  readonly pause: () => void;
  readonly resume: () => void;
  /** Ends it and throws its folder away. */
  readonly stop: () => Promise<void>;
}
export function startRedis(program: string): Promise<Server>;
/** A cluster of three nodes, of which the first has a key's slot, and one that follows it. */
export interface RedisCluster {
  /** Of the first node. */
  readonly url: string;
  readonly clear: () => Promise<void>;
  /** Moves the slot to the second node, key by key, as an operator does; `meanwhile` after each few. */
  readonly moveSlot: (meanwhile?: () => unknown) => Promise<void>;
  /** Ends the first node, as a crash would, and waits until the follower has taken over. */
  readonly failOver: () => Promise<void>;
  readonly pauseFollower: () => void;
  readonly resumeFollower: () => void;
  readonly stop: () => Promise<void>;
}
export function startRedisCluster(program: string, key: string): Promise<RedisCluster>;
/** @param programs the folder where `initdb` and `postgres` are */
export function startPostgres(programs: string): Promise<Server>;
/** @param ignored startup parameters that it leaves out, where it would refuse them otherwise */
export function startPooler(program: string, serverUrl: string, ignored?: string): Promise<Server>;
export function startStoreServer(
  kind: string,
  programs: Readonly<Partial<Record<string, string>>>,
): Promise<Server | undefined>;
/** The first of `count` free ports in a row. */
export function freePorts(count: number): Promise<number>;

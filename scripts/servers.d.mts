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
/** @param programs the folder where `initdb` and `postgres` are */
export function startPostgres(programs: string): Promise<Server>;
export function startStoreServer(
  kind: string,
  programs: Readonly<Partial<Record<string, string>>>,
): Promise<Server | undefined>;
export function freePort(): Promise<number>;

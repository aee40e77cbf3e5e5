import { fail } from "../problem/index.js";
import { randomId, type ConnectionRecord, type Lease } from "../session/index.js";
import { leaseMarginSeconds, leaseName, type Connecting } from "./connecting.js";

/** A lease of this process's, by its own clocks: what the store thinks of it is asked with every write. */
export interface HeldLease extends Lease {
  /** The one before let it run out. */
  readonly isInherited: boolean;
  /** By whichever clock has gone further: the one that nobody sets, or the one that goes on while a machine sleeps. */
  readonly secondsLeft: () => number;
  /**
   * Is asked in the moment before a request is sent.
   *
   * @throws connection.busy where it could arrive after the lease has run out
   */
  readonly mayStart: () => void;
}

export type UnderLease<Result> =
  | { readonly kind: "held"; readonly leaseSeconds: number }
  | { readonly kind: "done"; readonly leaseSeconds: number; readonly result: Result };

/** Before its end by the store's clock, seconds: for what lies between the question and the sending. */
const cautionSeconds = 1;

/**
 * Takes a connection's lease, works, and gives it back. It is long enough for two requests (the second with a nonce, RFC
 * 9449 section 8), each cut off at the deadline, and for reading, sealing and writing.
 *
 * @param purpose says in the store what it is for
 * @param timeoutSeconds of one request
 */
export async function underLease<Result>(
  connecting: Connecting,
  connection: ConnectionRecord,
  purpose: string,
  timeoutSeconds: number,
  work: (lease: HeldLease) => Promise<Result>,
): Promise<UnderLease<Result>> {
  const { tools, store } = connecting;
  const { now, monotonic } = tools.platform;
  const name = leaseName(connection.id);
  const leaseSeconds = 2 * timeoutSeconds + leaseMarginSeconds;
  // One of its own for each lease: whoever does not learn whether they got it can give it back all the same.
  const owner = `${connecting.owner}/${purpose}/${randomId(tools.platform, 6)}`;
  const giveBack = () => store.releaseLease(name, owner).catch(() => undefined); // or else it runs out
  // What is written under it is about as long as what is there.
  const room = 2 * JSON.stringify(connection).length;
  // Counted from before it is asked for: it ends by the store's clock no sooner than that.
  const [since, sinceWall] = [monotonic(), now()];
  const secondsLeft = () => leaseSeconds - Math.max(monotonic() - since, now() - sinceWall);
  let answer;
  try {
    answer = await store.takeLease(name, owner, leaseSeconds, room);
  } catch (error) {
    void giveBack();
    throw error;
  }
  if (answer.kind === "held") return { kind: "held", leaseSeconds };
  const mayStart = () => {
    if (secondsLeft() >= timeoutSeconds + cautionSeconds) return;
    fail("connection.busy", { received: "a process that stood still for too long", retryAfterSeconds: 1 });
  };
  try {
    const lease = {
      name,
      number: answer.number,
      isInherited: answer.kind === "taken over",
      secondsLeft,
      mayStart,
    };
    return { kind: "done", leaseSeconds, result: await work(lease) };
  } finally {
    await giveBack();
  }
}

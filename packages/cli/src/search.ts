import type { Store } from "tenonsaw/server";

/** As many as a store gives at a time, and as many as are shown. */
const most = 1000;
/** How often somebody who waits is told how far a search has come. */
const tellEach = 100_000;

type SessionQuery = Parameters<Store["findSessions"]>[0];
type KeptQuery = Parameters<Store["findAllKept"]>[0];
type ListPart = NonNullable<Parameters<Store["findSessions"]>[1]>;
export type Found = Awaited<ReturnType<Store["findSessions"]>>[number];
type Kept = Awaited<ReturnType<Store["findAllKept"]>>[number];

export function allSessions(store: Store, query: SessionQuery): AsyncGenerator<Found> {
  return inParts(
    (part) => store.findSessions(query, part),
    ({ session: { id, createdAt } }) => ({ id, at: createdAt }),
  );
}

export function allKept(store: Store, query: KeptQuery): AsyncGenerator<Kept> {
  return inParts(
    (part) => store.findAllKept(query, part),
    ({ id, connectedAt }) => ({ id, at: connectedAt }),
  );
}

/** All of a list, part by part, as far as somebody reads on. */
async function* inParts<Each>(
  find: (part: ListPart) => Promise<readonly Each[]>,
  placeOf: (each: Each) => NonNullable<ListPart["after"]>,
): AsyncGenerator<Each> {
  for (let after: ListPart["after"]; ;) {
    const part = await find({ after, most });
    yield* part;
    const last = part.at(-1);
    if (!last || part.length < most) return;
    after = placeOf(last);
  }
}

/** What is sought among all there are, the newest first; so many at the most, and where there are more it is said. */
export async function search<Each>(
  all: AsyncIterable<Each>,
  isSought: (each: Each) => boolean,
  what: string,
): Promise<readonly Each[]> {
  const found: Each[] = [];
  let count = 0;
  for await (const each of all) {
    count += 1;
    if (count % tellEach === 0) console.error(`${count.toLocaleString("en")} ${what} searched so far`);
    if (!isSought(each)) continue;
    if (found.length === most) {
      console.error(
        `Only the newest ${most.toLocaleString("en")} of these ${what} are shown. Name the person or the provider to see others.`,
      );
      break;
    }
    found.push(each);
  }
  return found;
}

import type { Readable } from "node:stream";

/** What stands behind the body of an answer, where that is a stream of Node's: an adapter for Node sends it on as it is. */
const sources = new WeakMap<ReadableStream, Readable>();

/** An answer that nobody reads keeps its connection from all others: it is given up with the answer itself. */
const unread = new FinalizationRegistry<Readable>((source) => source.destroy());

/** A stream of Node's as a body of the web's, which begins to read when it is read itself. */
export function bodyFrom(source: Readable): ReadableStream<Uint8Array> {
  let reading: AsyncIterator<Uint8Array, undefined> | undefined;
  const body = new ReadableStream<Uint8Array>(
    {
      async pull(controller) {
        reading ??= source[Symbol.asyncIterator]() as AsyncIterator<Uint8Array, undefined>;
        const { value } = await reading.next();
        if (value) controller.enqueue(value);
        else controller.close();
      },
      cancel: () => void source.destroy(),
    },
    { highWaterMark: 0 },
  );
  sources.set(body, source);
  unread.register(body, source, body);
  return body;
}

/** What stands behind the body of an answer that nobody has read, and that is the caller's from now on. */
export function takeSource(body: ReadableStream | null): Readable | undefined {
  if (!body || body.locked) return undefined;
  unread.unregister(body);
  return sources.get(body);
}

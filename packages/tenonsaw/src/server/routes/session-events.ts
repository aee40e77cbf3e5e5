import type { Context } from "../context/context.js";
import { sessionOf } from "../sessions/session-of.js";

/** A browser has at most so many pages that are told; one more, and the oldest asks by itself again. */
const mostStreams = 10;
/** After so many seconds a stream ends, and the browser opens another: a proxy would end it somewhere else. */
const longestSeconds = 600;

const open = new WeakMap<object, Map<string, Set<() => void>>>();

/**
 * Server-sent events (HTML Standard 9.2) for a page of this app: one, `change`, when its session has ended or is somebody
 * else's, after which the stream is over. Whoever has no session gets no stream.
 */
export async function sessionEvents(context: Context, request: Request): Promise<Response> {
  const { settings, tools, answers } = context;
  const found = await sessionOf(context, request, false);
  // 204 tells an EventSource not to come back.
  if (!found) return new Response(null, { status: 204, headers: { "cache-control": "no-store" } });
  const { id } = found.session;
  const { platform } = tools;
  const ending = new AbortController();
  const end = () => ending.abort();
  const isOver = () => ending.signal.aborted;
  request.signal.addEventListener("abort", end, { once: true });
  if (request.signal.aborted) end();
  const all = streamsOf(settings);
  const streams = all.get(id) ?? new Set();
  all.set(id, streams.add(end));
  if (streams.size > mostStreams) [...streams][0]?.();
  const write = (controller: ReadableStreamDefaultController<Uint8Array>, text: string) => {
    // To nobody who does not read; the connection shows whether anybody is there.
    if ((controller.desiredSize ?? 0) > 0) controller.enqueue(new TextEncoder().encode(text));
  };
  const follow = async (controller: ReadableStreamDefaultController<Uint8Array>) => {
    const beganAt = platform.monotonic();
    write(controller, ": here\n\n");
    for (;;) {
      await platform.wait(settings.sessionEventsSeconds ?? 0, ending.signal);
      if (isOver() || platform.monotonic() - beganAt > longestSeconds) return;
      // A store that is away has not said that anything ended.
      const now = await sessionOf(context, request, false).catch(() => found);
      if (isOver()) return;
      if (now?.session.id !== id) {
        write(controller, "event: change\ndata:\n\n");
        return;
      }
      write(controller, ": still here\n\n");
    }
  };
  const body = new ReadableStream<Uint8Array>(
    {
      start(controller) {
        void follow(controller).finally(() => {
          streams.delete(end);
          if (streams.size === 0) all.delete(id);
          // Cancelled, it is closed already.
          if (!isCancelled) controller.close();
        });
      },
      cancel() {
        isCancelled = true;
        end();
      },
    },
    new CountQueuingStrategy({ highWaterMark: 16 }),
  );
  let isCancelled = false;
  const { headers } = answers.json({}, 200);
  headers.set("content-type", "text/event-stream");
  // A proxy that gathers answers would keep the event.
  headers.set("x-accel-buffering", "no");
  return new Response(body, { headers });
}

/** What is open in an app, by session. */
function streamsOf(app: object): Map<string, Set<() => void>> {
  const all = open.get(app) ?? new Map<string, Set<() => void>>();
  open.set(app, all);
  return all;
}

import { Hono } from "hono";
import { compress } from "hono/compress";
import { createDoor, type AccessTokenSettings } from "../read-access-token.js";

/** Tidebook: an API for tides, for whoever brings an access token with `tides.read`. */
export function createTidebook(settings: AccessTokenSettings): Hono {
  const admit = createDoor("Tidebook", settings);
  const app = new Hono();
  // As most APIs do; and it keeps a cookie of its own, which is nobody else's.
  app.use(compress({ threshold: 0 }));
  app.get("/", (c) =>
    c.text("Tidebook, a practice API. Try /tides/today with an access token for tides.read."),
  );
  app.get("/tides/today", async (c) => {
    const admission = await admit(c.req.raw, "tides.read");
    if (admission.kind === "refused") {
      c.header("www-authenticate", admission.challenge);
      if (admission.nonce !== undefined) c.header("dpop-nonce", admission.nonce);
      return c.json({ error: admission.message }, admission.status);
    }
    c.header("cache-control", "no-store");
    c.header("set-cookie", "tidebook=seen; Path=/; HttpOnly; SameSite=Lax");
    return c.json({
      place: "Ferrywell landing",
      readAt: Math.floor(settings.now()),
      tides: tidesOf(settings.now()),
    });
  });
  // The level as it is read, every half second (Server-sent events, HTML Standard 9.2), until nobody listens.
  app.get("/tides/live", async (c) => {
    const admission = await admit(c.req.raw, "tides.read");
    if (admission.kind === "refused") return c.json({ error: admission.message }, admission.status);
    let timer: NodeJS.Timeout | undefined;
    const events = new ReadableStream<Uint8Array>({
      start(controller) {
        const tell = () => {
          const level = JSON.stringify({ at: Math.floor(settings.now()), metres: 2.1 });
          controller.enqueue(new TextEncoder().encode(`data: ${level}\n\n`));
        };
        tell();
        timer = setInterval(tell, 500);
        timer.unref();
      },
      cancel: () => clearInterval(timer),
    });
    return new Response(events, { headers: { "content-type": "text/event-stream" } });
  });
  return app;
}

/** Four tides a day, a little later each day, as tides are. */
function tidesOf(now: number) {
  const dayLengthSeconds = 86_400;
  const halfTideSeconds = 22_357;
  const midnight = Math.floor(now / dayLengthSeconds) * dayLengthSeconds;
  const first = Math.ceil(midnight / halfTideSeconds);
  return Array.from({ length: 4 }, (_, index) => {
    const number = first + index;
    const isHigh = number % 2 === 0;
    return {
      at: number * halfTideSeconds,
      kind: isHigh ? "high" : "low",
      heightMetres: Number(((isHigh ? 3.4 : 0.6) + (number % 7) * 0.1).toFixed(1)),
    };
  });
}

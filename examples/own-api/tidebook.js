// Tidebook: an API for tides and boat slots, for whoever brings an access token of Quayside ID.
import { Hono } from "hono";
import { guardForHono } from "tenonsaw/hono";
import { openGuard } from "tenonsaw/guard";

/** @param {Omit<import("tenonsaw/guard").GuardCommon & import("tenonsaw/guard").TokenIssuer, "name">} settings */
export async function createTidebook(settings) {
  const guard = await openGuard({ name: "Tidebook", scopes: ["tides.read", "slots.write"], ...settings });
  const { middleware, takes } = guardForHono(guard);
  const slots = new Map(["06:00", "08:00", "18:00"].map((at, index) => [index + 1, { at, boat: "Heron" }]));

  const app = new Hono();
  app.use(middleware);
  app.get("/", takes("any-caller"), (c) => c.json({ caller: c.get("caller") }));

  // Who may read.
  app.get("/tides/today", takes({ scope: "tides.read" }), (c) => c.json(tidesAt(Date.now() / 1000)));
  app.get("/slots", takes({ anyScope: "tides.read slots.write" }), (c) => c.json({ slots: listOf(slots) }));

  // Who may write: a person who has allowed the app to.
  const book = (c, id) => {
    const slot = slots.get(id);
    if (!slot) return c.json({ title: "There is no such slot" }, 404);
    if (slot.bookedBy !== undefined) return c.json({ title: "Somebody was faster" }, 409);
    slot.bookedBy = c.get("caller").subject;
    return c.json({ slots: listOf(slots) });
  };
  app.post("/slots/:id", takes({ scope: "slots.write", caller: "person" }), (c) =>
    book(c, Number(c.req.param("id"))),
  );

  // Who may take a booking back: the harbour master, by a role in the token.
  app.delete("/slots/:id", takes({ scope: "slots.write", role: "harbour-master" }), (c) => {
    delete slots.get(Number(c.req.param("id")))?.bookedBy;
    return c.json({ slots: listOf(slots) });
  });

  // One address for several operations, as with GraphQL: each says what it requires. A name that is not in the list requires what
  // nobody has, and so does one that every object inherits, such as `__proto__`.
  const needs = { tides: { scope: "tides.read" }, book: { scope: "slots.write", caller: "person" } };
  const byOperation = async (c) => {
    const { operation } = await c.req.json();
    return Object.hasOwn(needs, operation) ? needs[operation] : { role: "nobody" };
  };
  app.post("/query", takes(byOperation), async (c) => {
    const { operation, id } = await c.req.json();
    return operation === "tides" ? c.json(tidesAt(Date.now() / 1000)) : book(c, id);
  });
  return app;
}

const listOf = (slots) =>
  [...slots].map(([id, { at, boat, bookedBy }]) => ({ id, at, boat, isFree: bookedBy === undefined }));

/** Four tides a day, a little later each day, as tides are. */
function tidesAt(now) {
  const halfTideSeconds = 22_357;
  const first = Math.ceil((Math.floor(now / 86_400) * 86_400) / halfTideSeconds);
  const tides = [0, 1, 2, 3].map((index) => {
    const number = first + index;
    const height = (number % 2 === 0 ? 3.4 : 0.6) + (number % 7) * 0.1;
    return {
      at: number * halfTideSeconds,
      kind: number % 2 === 0 ? "high" : "low",
      heightMetres: Number(height.toFixed(1)),
    };
  });
  return { place: "Ferrywell landing", readAt: Math.floor(now), tides };
}

import { Hono } from "hono";
import { isProblem } from "tenonsaw/problem";
import type { Session, SignIn } from "tenonsaw/server";
import type { History } from "./history.js";

const asPage = { headers: { "content-type": "text/html; charset=utf-8" } };

/** Ferrywell's own routes: six pages and what they ask for. */
export function createApp(signIn: SignIn, history: History, render: (path: string) => Promise<string>): Hono {
  const app = new Hono();

  app.use(async (c, next) => {
    await next();
    // Nothing private may come back out of a cache, nor out of the back button's memory.
    c.header("cache-control", "no-store");
    c.header("referrer-policy", "same-origin");
    c.header("x-content-type-options", "nosniff");
  });

  app.get("/favicon.ico", (c) => c.body(null, 204));
  app.get("/", async (c) => c.html(await render(c.req.path)));
  app.get("/changed-your-mind", async (c) => c.html(await render(c.req.path)));
  for (const path of ["/tides", "/books", "/history"]) {
    app.get(path, async (c) => {
      const session = await signIn.session(c.req.raw);
      return session ? c.html(await render(path)) : signIn.ask(c.req.raw);
    });
  }

  // Booking takes more than signing in: who has not allowed it yet is asked, and comes back here.
  const slots = signIn.protect(async () => new Response(await render("/slots"), asPage), {
    provider: "quayside",
    scope: "slots.write",
  });
  app.get("/slots", (c) => slots(c.req.raw));

  app.get("/api/me", async (c) => {
    const session = await signIn.session(c.req.raw);
    if (!session) return c.json({ kind: "nobody", providers: signIn.providers });
    return c.json({
      kind: "somebody",
      person: session.person,
      signedInAt: session.signedInAt,
      provider: session.provider,
      connection: await session.connection(),
      identities: await session.identities(),
      sessions: await session.sessions(),
      providers: signIn.providers,
      unlinkPath: signIn.unlinkPath,
      signOutPath: signIn.signOutPath,
    });
  });

  app.post("/sessions/end", async (c) => {
    const session = await signIn.session(c.req.raw);
    if (!session) return signIn.ask(c.req.raw);
    if (!signIn.fromOwnPage(c.req.raw)) return c.text("From a page of Ferrywell only.", 403);
    const form = new URLSearchParams(await c.req.text());
    await session.endSession(form.get("id") ?? "");
    return c.redirect("/", 303);
  });

  app.get("/api/history", async (c) => {
    const session = await signIn.session(c.req.raw);
    if (!session) return signIn.ask(c.req.raw);
    const held = await Promise.all(signIn.providers.map(({ name }) => session.connection(name)));
    const titled = <Entry extends { readonly provider: string }>(entry: Entry) => ({
      ...entry,
      provider: signIn.providers.find(({ name }) => name === entry.provider)?.title ?? entry.provider,
    });
    return c.json({
      now: Date.now() / 1000,
      connections: held.filter((each) => each !== undefined).map(titled),
      events: history.of(session.person.id).map(titled),
    });
  });

  app.get("/api/tides", async (c) => {
    const session = await signIn.session(c.req.raw);
    if (!session) return signIn.ask(c.req.raw);
    try {
      const answer = await session.fetch("tidebook", "/tides/today");
      if (!answer.ok) return c.json({ message: `Tidebook answered with status ${answer.status}.` }, 502);
      return c.json({
        ...((await answer.json()) as object),
        connection: await session.connection("quayside"),
      });
    } catch (error) {
      return c.json(await describeFailure(error, session), 502);
    }
  });

  return app;
}

async function describeFailure(error: unknown, session: Session) {
  // Whoever signed in elsewhere has nothing that Tidebook takes: they may add the account that has.
  if (isProblem(error, "connection.none"))
    return {
      message: "Tidebook takes the tokens of Quayside ID: add it to your ways to sign in.",
      addAt: "/",
    };
  if (isProblem(error)) {
    return {
      message: error.problem.title,
      code: error.problem.code,
      connection: await session.connection("quayside"),
    };
  }
  return { message: "Tidebook cannot be reached." };
}

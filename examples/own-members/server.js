// An app with a user table of its own: sign-in finds its people there, and lets nobody else in.
import { createServer } from "node:http";
import Database from "libsql";
import { createSignIn, readReturnPath } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const members = new Database("members.db");
members.exec(`
  CREATE TABLE IF NOT EXISTS members (
    number INTEGER PRIMARY KEY, boat TEXT, issuer TEXT, subject TEXT, blocked INTEGER NOT NULL DEFAULT 0,
    UNIQUE (issuer, subject)
  )`);
const bySubject = members.prepare("SELECT number, blocked FROM members WHERE issuer = ? AND subject = ?");
const byNumber = members.prepare("SELECT number, boat FROM members WHERE number = ?");
const join = members.prepare("INSERT INTO members (issuer, subject) VALUES (?, ?)");
const moor = members.prepare("UPDATE members SET boat = ? WHERE number = ?");

const origin = "http://localhost:5173";
const scope = "openid profile";
const client = { clientId: "ferrywell", clientSecret: { env: "QUAYSIDE_SECRET" }, scope };
const signIn = await createSignIn({
  origin,
  store: openSqliteStore("app.db"),
  providers: { quayside: { issuer: "http://localhost:4600", ...client } },
  welcome({ identity: { issuer, subject } }) {
    const known = bySubject.get(issuer, subject);
    if (known?.blocked) return { refused: `member ${known.number} is blocked` };
    if (known) return { personId: String(known.number) };

    const { lastInsertRowid } = join.run(issuer, subject);
    return { personId: String(lastInsertRowid), page: "/welcome" }; // which boat is theirs, no provider tells
  },
});

async function app(request) {
  const session = await signIn.session(request);
  if (!session) return signIn.ask(request);
  const { pathname, searchParams } = new URL(request.url);
  if (pathname === "/welcome") return html(welcome(searchParams.get("returnTo") ?? "/"));
  if (pathname === "/boat" && request.method === "POST") return nameBoat(request, session.person.id);
  const { number, boat } = byNumber.get(Number(session.person.id));
  return Response.json({ name: session.person.name, number, boat });
}

const welcome = (returnTo) => `<!doctype html><title>Welcome</title>
  <form method="post" action="/boat"><input type="hidden" name="returnTo" value="${encodeURI(returnTo)}">
  <label>Which boat is yours? <input name="boat" required></label> <button>Go on</button></form>`;
const html = (text) => new Response(text, { headers: { "content-type": "text/html; charset=utf-8" } });

async function nameBoat(request, personId) {
  if (request.headers.get("origin") !== origin) return new Response(null, { status: 403 });
  const form = new URLSearchParams(await request.text());
  moor.run(form.get("boat"), Number(personId));
  const location = readReturnPath(origin, form.get("returnTo")); // never to another site
  return new Response(null, { status: 303, headers: { location } });
}

createServer(nodeListener(signIn, app)).listen(5173, "localhost");

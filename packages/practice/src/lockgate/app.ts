import { Hono } from "hono";
import type { Person } from "../people.js";
import { answer, find, refuse } from "../plain-oauth.js";
import { choosePersonPage, consentPage, messagePage } from "../quayside/pages.js";
import { randomText } from "../random-text.js";
import { sha256, type Client } from "../quayside/state.js";

const brand = "Lockgate Permits";
const scopes = ["permits.read", "permits.write"];

interface Pending {
  readonly client: Client;
  readonly redirectUri: string;
  readonly state: string | null;
  readonly scope: readonly string[];
  readonly codeChallenge: string | null;
  person?: Person;
}

export interface LockgateState {
  readonly people: readonly Person[];
  readonly clients: ReadonlyMap<string, Client>;
}

/**
 * Lockgate Permits: plain OAuth 2.0 as one meets it. No ID token, no discovery, scopes with commas, form-encoded token
 * answers, errors inside status 200, no token type, and a profile of its own shape.
 */
export function createLockgate({ people, clients }: LockgateState): Hono {
  const app = new Hono();
  const pending = new Map<string, Pending>();
  const codes = new Map<string, Pending>();
  const tokens = new Map<string, Person>();

  app.get("/", (c) => c.html(messagePage(brand, brand, "Plain OAuth 2.0 to practise with.")));

  app.get("/oauth/authorize", (c) => {
    const query = new URL(c.req.url).searchParams;
    const client = clients.get(query.get("client_id") ?? "");
    const redirectUri = query.get("redirect_uri") ?? "";
    if (!client?.redirectUris.includes(redirectUri)) {
      return c.html(
        messagePage(brand, "Unknown app", `Nobody registered ${redirectUri || "this app"} here.`),
        400,
      );
    }
    const scope = (query.get("scope") ?? "").split(",").filter((part) => part !== "");
    const request = {
      client,
      redirectUri,
      state: query.get("state"),
      scope,
      codeChallenge: query.get("code_challenge"),
    };
    if (scope.some((part) => !scopes.includes(part)))
      return c.redirect(answer(request, { error: "invalid_scope" }), 303);
    const id = randomText();
    pending.set(id, request);
    return c.html(choosePersonPage(brand, id, client.title, people));
  });

  app.post("/authorize/person", async (c) => {
    const form = await c.req.formData();
    const [id, request] = find(pending, form);
    const person = people.find((candidate) => candidate.id === form.get("person"));
    if (!request || !person || person.isSuspended) return refuse(c, brand);
    request.person = person;
    return c.html(consentPage(brand, id, request.client.title, person, request.scope));
  });

  app.post("/authorize/decision", async (c) => {
    const form = await c.req.formData();
    const [id, request] = find(pending, form);
    if (!request?.person) return refuse(c, brand);
    pending.delete(id);
    if (form.get("decision") !== "allow") return c.redirect(answer(request, { error: "access_denied" }), 303);
    const code = randomText();
    codes.set(code, request);
    // The number of the office that was connected comes along, and is said nowhere else.
    return c.redirect(answer(request, { code, office: request.person.organisation }), 303);
  });

  app.post("/oauth/token", async (c) => {
    const form = new URLSearchParams(await c.req.text());
    const code = form.get("code") ?? "";
    const request = codes.get(code);
    codes.delete(code);
    const isRight =
      request?.person &&
      form.get("client_id") === request.client.clientId &&
      form.get("client_secret") === request.client.clientSecret &&
      form.get("redirect_uri") === request.redirectUri &&
      (request.codeChallenge === null ||
        sha256(form.get("code_verifier") ?? "").toString("base64url") === request.codeChallenge);
    const fields: Record<string, string> = { error: "invalid_grant" };
    if (isRight && request.person) {
      const token = randomText();
      tokens.set(token, request.person);
      delete fields["error"];
      Object.assign(fields, { access_token: token, scope: request.scope.join(","), expires_in: "3600" });
    }
    c.header("content-type", "application/x-www-form-urlencoded");
    return c.body(new URLSearchParams(fields).toString());
  });

  app.get("/api/whoami", (c) => {
    const [, token = ""] = /^Bearer (.+)$/i.exec(c.req.header("authorization") ?? "") ?? [];
    const person = tokens.get(token);
    if (!person) return c.json({ message: "Who are you?" }, 401);
    const { subject, name, email, organisation } = person;
    const number = Number(subject.replace(/\D/g, ""));
    return c.json({
      account: {
        number,
        display: { full: name },
        contact: email === undefined ? [] : [{ mail: email }],
        office: organisation,
      },
    });
  });
  return app;
}

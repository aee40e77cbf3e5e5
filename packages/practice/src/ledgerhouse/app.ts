import { Hono, type Context } from "hono";
import type { Person } from "../people.js";
import { answer, find, refuse } from "../plain-oauth.js";
import { choosePersonPage, companyPage, messagePage } from "../quayside/pages.js";
import { randomText } from "../random-text.js";
import { sha256, type Client } from "../quayside/state.js";

/** A company whose books are kept here. All of them are made up. */
export interface Company {
  readonly id: string;
  readonly title: string;
}

const companies: readonly Company[] = [
  { id: "fw-club", title: "Ferrywell Rowing Club" },
  { id: "fw-boats", title: "Ferrywell Boat Hire" },
];

/** What an app can ask for, and what the consent page says of it. */
const scopes: Readonly<Record<string, string>> = {
  "books.read": "Read the books of a company",
  "books.write": "Write into the books of a company",
  offline: "Stay connected while you are away",
};

export interface LedgerhouseState {
  readonly people: readonly Person[];
  readonly clients: ReadonlyMap<string, Client>;
  readonly now: () => number;
  readonly accessTokenSeconds: number;
  /** A refresh token that nobody uses for so long is dead. */
  readonly idleSeconds: number;
  readonly isSandbox: boolean;
}

interface Asked {
  readonly client: Client;
  readonly redirectUri: string;
  readonly state: string | null;
  readonly scope: readonly string[];
  readonly codeChallenge: string;
  person?: Person;
}

/** What somebody has allowed an app to do with one company. */
interface Access {
  readonly client: Client;
  readonly person: Person;
  readonly company: Company;
  readonly scope: readonly string[];
  isRevoked?: true;
}

interface Token {
  readonly access: Access;
  readonly endsAt: number;
}

interface Invoice {
  readonly number: number;
  readonly to: string;
  readonly amount: number;
}

/**
 * Ledgerhouse: an accounting service with companies, plain OAuth 2.0. The callback names the company that was picked; refresh
 * tokens rotate and die unused; sandbox and production share nothing.
 */
export function createLedgerhouse(state: LedgerhouseState): Hono {
  const { people, clients, now, isSandbox } = state;
  const brand = isSandbox ? "Ledgerhouse Sandbox" : "Ledgerhouse";
  const app = new Hono();
  const pending = new Map<string, Asked>();
  const codes = new Map<string, { readonly asked: Asked; readonly access: Access }>();
  const accessTokens = new Map<string, Token>();
  const refreshTokens = new Map<string, Token>();
  const books = new Map(companies.map(({ id }) => [id, new Map<number, Invoice>()]));
  for (const [id, invoices] of books)
    invoices.set(1, { number: 1, to: "Maren Holt", amount: id === "fw-club" ? 120 : 45 });

  app.get("/", (c) => c.html(messagePage(brand, brand, "An accounting service to practise with.")));

  app.get("/oauth/authorize", (c) => {
    const query = new URL(c.req.url).searchParams;
    const client = clients.get(query.get("client_id") ?? "");
    const redirectUri = query.get("redirect_uri") ?? "";
    if (!client?.redirectUris.includes(redirectUri))
      return c.html(
        messagePage(brand, "Unknown app", `Nobody registered ${redirectUri || "this app"} here.`),
        400,
      );
    const scope = (query.get("scope") ?? "").split(" ").filter((part) => part !== "");
    const asked: Asked = {
      client,
      redirectUri,
      state: query.get("state"),
      scope,
      codeChallenge: query.get("code_challenge") ?? "",
    };
    if (query.get("code_challenge_method") !== "S256")
      return c.redirect(answer(asked, { error: "invalid_request" }), 303);
    if (scope.some((part) => !Object.hasOwn(scopes, part)))
      return c.redirect(answer(asked, { error: "invalid_scope" }), 303);
    const id = randomText();
    pending.set(id, asked);
    return c.html(choosePersonPage(brand, id, client.title, people));
  });

  app.post("/authorize/person", async (c) => {
    const form = await c.req.formData();
    const [id, asked] = find(pending, form);
    const person = people.find((candidate) => candidate.id === form.get("person"));
    if (!asked || !person || person.isSuspended) return refuse(c, brand);
    asked.person = person;
    const wishes = asked.scope.map((scope) => [scope, scopes[scope] ?? "Use"] as const);
    return c.html(companyPage(brand, id, asked.client.title, wishes, companies));
  });

  app.post("/authorize/decision", async (c) => {
    const form = await c.req.formData();
    const [id, asked] = find(pending, form);
    if (!asked?.person) return refuse(c, brand);
    pending.delete(id);
    const company = companies.find((each) => each.id === form.get("decision"));
    if (!company) return c.redirect(answer(asked, { error: "access_denied" }), 303);
    const code = randomText();
    const { client, person } = asked;
    // Who is no coach of the club may read and no more, whatever is asked for (RFC 6749 section 3.3).
    const scope = asked.scope.filter((part) => part !== "books.write" || person.roles.includes("coach"));
    codes.set(code, { asked, access: { client, person, company, scope } });
    // Which company it is, is said nowhere else but with the first call.
    return c.redirect(answer(asked, { code, company: company.id }), 303);
  });

  const clientOf = (c: Context): Client | undefined => {
    const [, basic = ""] = /^Basic (.+)$/i.exec(c.req.header("authorization") ?? "") ?? [];
    const [id = "", secret = ""] = Buffer.from(basic, "base64").toString().split(":").map(decodeURIComponent);
    const client = clients.get(id);
    return client?.clientSecret === secret ? client : undefined;
  };

  const issue = (c: Context, access: Access) => {
    const [accessToken, refreshToken] = [randomText(), randomText()];
    accessTokens.set(accessToken, { access, endsAt: now() + state.accessTokenSeconds });
    if (access.scope.includes("offline"))
      refreshTokens.set(refreshToken, { access, endsAt: now() + state.idleSeconds });
    c.header("cache-control", "no-store");
    return c.json({
      access_token: accessToken,
      token_type: "Bearer",
      expires_in: state.accessTokenSeconds,
      scope: access.scope.join(" "),
      ...(access.scope.includes("offline") && { refresh_token: refreshToken }),
    });
  };

  app.post("/oauth/token", async (c) => {
    const client = clientOf(c);
    if (!client) {
      c.header("www-authenticate", `Basic realm="${brand}"`);
      return c.json({ error: "invalid_client" }, 401);
    }
    const form = new URLSearchParams(await c.req.text());
    if (form.get("grant_type") === "refresh_token") {
      const token = refreshTokens.get(form.get("refresh_token") ?? "");
      refreshTokens.delete(form.get("refresh_token") ?? "");
      const isGood = token?.access.client === client && !token.access.isRevoked && token.endsAt > now();
      return isGood ? issue(c, token.access) : c.json({ error: "invalid_grant" }, 400);
    }
    const code = codes.get(form.get("code") ?? "");
    codes.delete(form.get("code") ?? "");
    const isRight =
      code?.access.client === client &&
      form.get("redirect_uri") === code.asked.redirectUri &&
      sha256(form.get("code_verifier") ?? "").toString("base64url") === code.asked.codeChallenge;
    return isRight ? issue(c, code.access) : c.json({ error: "invalid_grant" }, 400);
  });

  // RFC 7009: whatever it is, it is good no more, and what came of the same consent neither.
  app.post("/oauth/revoke", async (c) => {
    if (!clientOf(c)) return c.json({ error: "invalid_client" }, 401);
    const token = new URLSearchParams(await c.req.text()).get("token") ?? "";
    const found = refreshTokens.get(token) ?? accessTokens.get(token);
    if (found) found.access.isRevoked = true;
    return c.body(null, 200);
  });

  const admit = (c: Context, scope: string): Access | Response => {
    const [, text = ""] = /^Bearer (.+)$/i.exec(c.req.header("authorization") ?? "") ?? [];
    const token = accessTokens.get(text);
    if (!token || token.endsAt <= now() || token.access.isRevoked) {
      c.header("www-authenticate", `Bearer realm="${brand}"${text === "" ? "" : ', error="invalid_token"'}`);
      return c.json({ message: "Not with this token." }, 401);
    }
    if (token.access.scope.includes(scope)) return token.access;
    c.header("www-authenticate", `Bearer realm="${brand}", error="insufficient_scope", scope="${scope}"`);
    return c.json({ message: `That takes ${scope}.` }, 403);
  };
  const withBooks =
    (
      scope: string,
      work: (c: Context, invoices: Map<number, Invoice>, access: Access) => Response | Promise<Response>,
    ) =>
    (c: Context): Response | Promise<Response> => {
      const access = admit(c, scope);
      return access instanceof Response
        ? access
        : work(c, books.get(access.company.id) ?? new Map<number, Invoice>(), access);
    };

  app.get(
    "/api/me",
    withBooks("books.read", (c, _, { person: { subject, name } }) => c.json({ userId: subject, name })),
  );
  app.get(
    "/api/company",
    withBooks("books.read", (c, _, { company }) => c.json(company)),
  );
  app.get(
    "/api/invoices",
    withBooks("books.read", (c, invoices) => c.json({ invoices: [...invoices.values()] })),
  );
  app.post(
    "/api/invoices",
    withBooks("books.write", async (c, invoices) => {
      const { to, amount } = await c.req.json<Partial<Invoice>>();
      const made = { number: Math.max(0, ...invoices.keys()) + 1, to: String(to), amount: Number(amount) };
      invoices.set(made.number, made);
      return c.json(made, 201);
    }),
  );
  // A scan of a receipt, of any size: it is counted, and not kept.
  app.post(
    "/api/receipts",
    withBooks("books.write", async (c) => {
      let bytes = 0;
      for await (const part of c.req.raw.body ?? []) bytes += part.byteLength;
      return c.json({ bytes }, 201);
    }),
  );
  for (const method of ["put", "patch"] as const)
    app[method](
      "/api/invoices/:number",
      withBooks("books.write", async (c, invoices) => {
        const before = invoices.get(Number(c.req.param("number")));
        if (!before) return c.json({ message: "There is no such invoice." }, 404);
        const next = { ...before, ...(await c.req.json<Partial<Invoice>>()), number: before.number };
        invoices.set(before.number, next);
        return c.json(next);
      }),
    );
  app.delete(
    "/api/invoices/:number",
    withBooks("books.write", (c, invoices) => {
      const isGone = invoices.delete(Number(c.req.param("number")));
      return isGone ? c.body(null, 204) : c.json({ message: "There is no such invoice." }, 404);
    }),
  );
  return app;
}

import type { Context, Hono } from "hono";
import { getCookie, setCookie } from "hono/cookie";
import { authenticate, respond, TokenError } from "./authenticate.js";
import { isRehearsal } from "../rehearsals.js";
import { choosePersonPage, consentPage, messagePage } from "./pages.js";
import type { Person } from "../people.js";
import { administratorScopes, scopes } from "./metadata.js";
import { issuerOf, randomText, type Family, type PendingRequest, type QuaysideState } from "./state.js";

/** RFC 9126 section 2.2: the browser is on its way already. */
const pushedSeconds = 60;

/** Ports do not keep cookies apart, so each provider on localhost has a name of its own. */
export function browserCookie({ brand }: QuaysideState): string {
  return `${brand.toLowerCase().replaceAll(" ", "-")}-browser`;
}

/** The authorization endpoint: RFC 6749 section 4.1, OpenID Connect Core 1.0 section 3.1.2, RFC 7636, RFC 9126, RFC 9207. */
export function addAuthorize(app: Hono, state: QuaysideState): void {
  app.post("/push", async (c) => {
    const form = new URLSearchParams(await c.req.text());
    return respond(
      c,
      async () => {
        const client = await authenticate(state, c, form);
        const redirectUri = form.get("redirect_uri") ?? "";
        if (!client.redirectUris.includes(redirectUri)) {
          const registered = `Registered: ${client.redirectUris.join(", ")}`;
          throw new TokenError(
            "invalid_request",
            `redirect_uri ${redirectUri} is not registered. ${registered}`,
          );
        }
        const pending = readRequest(form, { client, redirectUri, state: form.get("state") ?? undefined });
        if ("error" in pending) throw new TokenError(pending.error, pending.error_description);
        const requestUri = `urn:ietf:params:oauth:request_uri:${randomText()}`;
        state.pushed.set(requestUri, form);
        return { request_uri: requestUri, expires_in: pushedSeconds };
      },
      201,
    );
  });

  app.get("/authorize", (c) => {
    const asked = new URL(c.req.url).searchParams;
    const requestUri = asked.get("request_uri");
    // RFC 9126 4: what was pushed counts, once, and for the client that pushed it.
    const query = requestUri === null ? asked : (state.pushed.get(requestUri) ?? new URLSearchParams());
    if (requestUri !== null) state.pushed.delete(requestUri);
    if (asked.get("client_id") !== query.get("client_id")) {
      const text = "This request is not known, or was used already.";
      return c.html(messagePage(state.brand, "Request not known", text), 400);
    }
    const client = state.clients.get(query.get("client_id") ?? "");
    const redirectUri = query.get("redirect_uri") ?? "";
    // RFC 6749 4.1.2.1: without a known client and its exact redirect URI nobody is redirected anywhere.
    if (!client) {
      return c.html(
        messagePage(
          state.brand,
          "Unknown client",
          `No client ${query.get("client_id") ?? "(none)"} is registered.`,
        ),
        400,
      );
    }
    if (!client.redirectUris.includes(redirectUri)) {
      return c.html(
        messagePage(
          state.brand,
          "Redirect URI not registered",
          `The request names ${redirectUri || "(none)"}.`,
          `Registered for ${client.title}: ${client.redirectUris.join(", ")}. The two must be the same, character for character.`,
        ),
        400,
      );
    }
    const request = { client, redirectUri, state: query.get("state") ?? undefined };
    const pending = readRequest(query, request);
    if ("error" in pending) return c.redirect(answer(state, request, pending), 303);
    const known = pending.prompt.includes("login")
      ? undefined
      : state.browsers.get(getCookie(c, browserCookie(state)) ?? "");
    if (pending.prompt.includes("none")) {
      const error = known ? "consent_required" : "login_required";
      return c.redirect(
        answer(state, pending, { error, error_description: "A person has to be asked." }),
        303,
      );
    }
    const id = randomText();
    state.pending.set(id, pending);
    if (known && !pending.prompt.includes("select_account")) {
      pending.person = known.person;
      return c.html(consentPage(state.brand, id, client.title, known.person, pending.scope));
    }
    return c.html(choosePersonPage(state.brand, id, client.title, state.people));
  });

  app.post("/authorize/person", async (c) => {
    const form = await c.req.formData();
    const [id, pending] = findPending(state, form);
    const person = state.people.find((candidate) => candidate.id === form.get("person"));
    if (!pending || !person) return expired(c, state.brand);
    if (person.isSuspended) {
      return c.html(
        messagePage(
          state.brand,
          "Account suspended",
          `${person.name} cannot sign in.`,
          "Go back and pick somebody else.",
        ),
        403,
      );
    }
    const rehearsal = form.get("rehearsal");
    if (typeof rehearsal === "string" && isRehearsal(rehearsal)) pending.rehearsal = rehearsal;
    pending.person = person;
    const browser = randomText();
    const authenticatedAt = Math.floor(state.now());
    state.browsers.set(browser, { id: randomText(), person, authenticatedAt, clients: new Set() });
    setCookie(c, browserCookie(state), browser, { httpOnly: true, sameSite: "Lax", path: "/" });
    return c.html(consentPage(state.brand, id, pending.client.title, person, pending.scope));
  });

  app.post("/authorize/decision", async (c) => {
    const form = await c.req.formData();
    const [id, pending] = findPending(state, form);
    if (!pending?.person) return expired(c, state.brand);
    state.pending.delete(id);
    const { device } = pending;
    if (form.get("decision") !== "allow") {
      if (device) {
        device.decision = "declined";
        return c.html(messagePage(state.brand, "Declined", "You can close this page."));
      }
      return c.redirect(
        answer(state, pending, { error: "access_denied", error_description: "The person said no." }),
        303,
      );
    }
    const reserved = pending.scope.filter((each) => {
      const role = administratorScopes[each];
      return role !== undefined && !pending.person?.roles.includes(role);
    });
    if (reserved.length > 0 && device) {
      device.decision = "declined";
      const text = `Only an administrator can allow ${reserved.join(" ")}.`;
      return c.html(messagePage(state.brand, "An administrator is needed", text));
    }
    if (reserved.length > 0) {
      const error_description = `Only an administrator can allow ${reserved.join(" ")}.`;
      return c.redirect(answer(state, pending, { error: "consent_required", error_description }), 303);
    }
    const browser = state.browsers.get(getCookie(c, browserCookie(state)) ?? "");
    browser?.clients.add(pending.client);
    const family: Family = {
      sessionId: browser?.id,
      person: pending.person,
      client: pending.client,
      scope: pending.scope,
      authenticatedAt: Math.floor(state.now()),
      rehearsal: pending.rehearsal,
      isRevoked: false,
    };
    if (device) {
      device.decision = family;
      const text = "You can close this page and go back to your device.";
      return c.html(messagePage(state.brand, "That is all", text));
    }
    const code = randomText();
    state.codes.set(code, {
      family,
      redirectUri: pending.redirectUri,
      nonce: pending.nonce,
      codeChallenge: pending.codeChallenge,
      expiresAt: state.now() + state.lifetimes.codeSeconds,
      isUsed: false,
    });
    return c.redirect(answer(state, pending, { code }), 303);
  });
}

interface ErrorAnswer {
  readonly error: string;
  readonly error_description: string;
}

function readRequest(
  query: URLSearchParams,
  request: Pick<PendingRequest, "client" | "redirectUri" | "state">,
): PendingRequest | ErrorAnswer {
  const invalid = (error_description: string) => ({ error: "invalid_request", error_description });
  if (query.get("response_type") !== "code") {
    return { error: "unsupported_response_type", error_description: "Only code is offered." };
  }
  // RFC 7636 4.4.1, RFC 9700 2.1.1: PKCE with S256 for everybody.
  if (query.get("code_challenge_method") !== "S256") return invalid("code_challenge_method must be S256.");
  const codeChallenge = query.get("code_challenge") ?? "";
  if (!/^[A-Za-z0-9_-]{43}$/.test(codeChallenge)) return invalid("code_challenge is missing or malformed.");
  const scope = (query.get("scope") ?? "").split(" ").filter((part) => part !== "");
  const unknown = scope.filter((part) => !Object.hasOwn(scopes, part));
  if (!scope.includes("openid") || unknown.length > 0) {
    return {
      error: "invalid_scope",
      error_description: `Not offered: ${unknown.join(" ") || "a request without openid"}.`,
    };
  }
  const prompt = (query.get("prompt") ?? "").split(" ").filter((part) => part !== "");
  if (prompt.includes("none") && prompt.length > 1) return invalid("prompt none stands alone.");
  // Core 11: offline access is only given together with consent; otherwise it is passed over.
  const granted = scope.filter((part) => part !== "offline_access" || prompt.includes("consent"));
  return { ...request, scope: granted, prompt, codeChallenge, nonce: query.get("nonce") ?? undefined };
}

/** The redirect back, with state and issuer. */
function answer(
  state: QuaysideState,
  request: Pick<PendingRequest, "redirectUri" | "state"> & { readonly person?: Person },
  parameters: Readonly<Record<string, string>> | ErrorAnswer,
): string {
  const url = new URL(request.redirectUri);
  const all = {
    ...parameters,
    ...(request.state !== undefined && { state: request.state }),
    iss: issuerOf(state, request.person),
  };
  for (const [name, value] of Object.entries(all)) url.searchParams.set(name, value);
  return url.href;
}

function findPending(state: QuaysideState, form: FormData): readonly [string, PendingRequest | undefined] {
  const id = form.get("request");
  return typeof id === "string" ? [id, state.pending.get(id)] : ["", undefined];
}

function expired(c: Context, brand: string): Response | Promise<Response> {
  return c.html(messagePage(brand, "This page has expired", "Go back to the app and start again."), 400);
}

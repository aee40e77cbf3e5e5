import type { Context, Hono } from "hono";
import { getCookie, setCookie } from "hono/cookie";
import { authenticate, respond, TokenError } from "./authenticate.js";
import { createTools, decodeJws, prepareKey, verifyJws } from "tenonsaw/jose";
import { packedFaults, pushFaults, responseFaults } from "../faults.js";
import { isRehearsal } from "../rehearsals.js";
import { choosePersonPage, consentPage, formPostPage, messagePage } from "./pages.js";
import {
  administratorScopes,
  authenticationClasses,
  responseModes,
  responseTypes,
  scopes,
} from "./metadata.js";
import { issueAccessToken, issueIdToken } from "./token.js";
import type { Person } from "../people.js";
import { scopeClaims } from "./userinfo.js";
import { randomText } from "../random-text.js";
import {
  issuerOf,
  type Client,
  type Family,
  type PendingRequest,
  type ProviderSession,
  type QuaysideState,
} from "./state.js";

/** RFC 9126 section 2.2: the browser is on its way already. */
const pushedSeconds = 60;

/** Ports do not keep cookies apart, so each provider on localhost has a name of its own. */
export function browserCookie({ brand }: QuaysideState): string {
  return `${brand.toLowerCase().replaceAll(" ", "-")}-browser`;
}

/** The authorization endpoint: RFC 6749 section 4.1, OpenID Connect Core 1.0 section 3.1.2, RFC 7636, RFC 9126, RFC 9207. */
export function addAuthorize(app: Hono, state: QuaysideState): void {
  app.post("/push", async (c) => {
    const sent = new URLSearchParams(await c.req.text());
    const change = state.rehearsal === undefined ? undefined : pushFaults[state.rehearsal];
    if (change) return change();
    return respond(
      c,
      async () => {
        const client = await authenticate(state, c, sent);
        const form = await openRequest(state, client, sent);
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

  app.get("/authorize", async (c) => {
    const asked = new URL(c.req.url).searchParams;
    const requestUri = asked.get("request_uri");
    // RFC 9126 4: what was pushed counts, once, and for the client that pushed it.
    const plain = requestUri === null ? asked : (state.pushed.get(requestUri) ?? new URLSearchParams());
    if (requestUri !== null) state.pushed.delete(requestUri);
    const asking = state.clients.get(plain.get("client_id") ?? "");
    const query =
      requestUri === null && asking ? await openRequest(state, asking, plain).catch(() => undefined) : plain;
    if (query?.get("client_id") !== (asked.get("client_id") ?? "")) {
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
    if ("error" in pending) return answer(c, state, request, pending);
    const signedIn = state.browsers.get(getCookie(c, browserCookie(state)) ?? "");
    // Core 3.1.2.1: max_age, and login by force.
    const isOld = signedIn !== undefined && state.now() - signedIn.authenticatedAt > pending.maxAge;
    const known = pending.prompt.includes("login") || isOld ? undefined : signedIn;
    if (pending.prompt.includes("none")) {
      const allowed = known?.allowed.get(pending.client.clientId);
      if (known && pending.scope.every((each) => allowed?.has(each))) {
        const family = familyOf(state, { ...pending, person: known.person }, known);
        return answer(c, state, pending, await issueAnswer(state, pending, family));
      }
      const error = known ? "consent_required" : "login_required";
      return answer(c, state, pending, { error, error_description: "A person has to be asked." });
    }
    const id = randomText();
    state.pending.set(id, pending);
    if (known && !pending.prompt.includes("select_account")) {
      pending.person = known.person;
      return c.html(consentPage(state.brand, id, client.title, known.person, pending.scope, true));
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
    chooseFault(pending, form);
    pending.person = person;
    const browser = randomText();
    const authenticatedAt = Math.floor(state.now());
    state.browsers.set(browser, {
      id: randomText(),
      person,
      authenticatedAt,
      clients: new Set(),
      allowed: new Map(),
    });
    setCookie(c, browserCookie(state), browser, { httpOnly: true, sameSite: "Lax", path: "/" });
    return c.html(consentPage(state.brand, id, pending.client.title, person, pending.scope, true));
  });

  app.post("/authorize/decision", async (c) => {
    const form = await c.req.formData();
    const [id, pending] = findPending(state, form);
    if (!pending?.person) return expired(c, state.brand);
    if (form.get("decision") === "somebody-else")
      return c.html(choosePersonPage(state.brand, id, pending.client.title, state.people));
    chooseFault(pending, form);
    state.pending.delete(id);
    const { device } = pending;
    if (form.get("decision") !== "allow") {
      if (device) {
        device.decision = "declined";
        return c.html(messagePage(state.brand, "Declined", "You can close this page."));
      }
      return answer(c, state, pending, { error: "access_denied", error_description: "The person said no." });
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
      return answer(c, state, pending, { error: "consent_required", error_description });
    }
    const browser = state.browsers.get(getCookie(c, browserCookie(state)) ?? "");
    browser?.clients.add(pending.client);
    const before = browser?.allowed.get(pending.client.clientId) ?? [];
    browser?.allowed.set(pending.client.clientId, new Set([...before, ...pending.scope]));
    const family = familyOf(state, { ...pending, person: pending.person }, browser);
    if (device) {
      device.decision = family;
      const text = "You can close this page and go back to your device.";
      return c.html(messagePage(state.brand, "That is all", text));
    }
    return answer(c, state, pending, await issueAnswer(state, pending, family));
  });
}

function familyOf(
  state: QuaysideState,
  pending: PendingRequest & { readonly person: Person },
  browser: ProviderSession | undefined,
): Family {
  const { acr, keyThumbprint, person, client, scope, rehearsal } = pending;
  return {
    sessionId: browser?.id,
    acr,
    keyThumbprint,
    person,
    client,
    scope,
    authenticatedAt: browser?.authenticatedAt ?? Math.floor(state.now()),
    rehearsal,
    isRevoked: false,
  };
}

function chooseFault(pending: PendingRequest, form: FormData): void {
  const rehearsal = form.get("rehearsal");
  if (typeof rehearsal === "string" && isRehearsal(rehearsal)) pending.rehearsal = rehearsal;
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
  const responseType = query.get("response_type") ?? "";
  if (!responseTypes.includes(responseType)) {
    return { error: "unsupported_response_type", error_description: `Offered: ${responseTypes.join(", ")}.` };
  }
  const responseMode = query.get("response_mode") ?? (responseType === "code" ? "query" : "fragment");
  if (!responseModes.includes(responseMode) || (responseMode === "query" && responseType !== "code"))
    return invalid("response_mode is not offered for this response_type.");
  // RFC 7636 4.4.1, RFC 9700 2.1.1: PKCE with S256 for every code.
  const codeChallenge = query.get("code_challenge") ?? "";
  if (responseType.includes("code")) {
    if (query.get("code_challenge_method") !== "S256") return invalid("code_challenge_method must be S256.");
    if (!/^[A-Za-z0-9_-]{43}$/.test(codeChallenge)) return invalid("code_challenge is missing or malformed.");
  }
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
  // Core 3.1.2.1: of several classes the best that there is; this provider can do both of its own.
  const acr = query
    .get("acr_values")
    ?.split(" ")
    .find((each) => authenticationClasses.includes(each));
  const nonce = query.get("nonce") ?? undefined;
  const maxAge = Number(query.get("max_age") ?? Number.POSITIVE_INFINITY);
  const keyThumbprint = query.get("dpop_jkt") ?? undefined;
  return {
    ...request,
    scope: granted,
    prompt,
    codeChallenge,
    keyThumbprint,
    responseType,
    responseMode,
    acr,
    maxAge,
    nonce,
  };
}

/** What the response type asks for: OAuth 2.0 Multiple Response Type Encoding Practices 1.0, sections 3 and 5. */
async function issueAnswer(
  state: QuaysideState,
  pending: PendingRequest,
  family: Family,
): Promise<Readonly<Record<string, string>>> {
  const asked = pending.responseType.split(" ");
  const code = asked.includes("code") ? randomText() : undefined;
  if (code !== undefined) {
    state.codes.set(code, {
      family,
      redirectUri: pending.redirectUri,
      nonce: pending.nonce,
      codeChallenge: pending.codeChallenge,
      expiresAt: state.now() + state.lifetimes.codeSeconds,
      isUsed: false,
    });
  }
  const tokens = asked.includes("token") ? await issueAccessToken(state, family) : undefined;
  // Core 5.4: without an access token there is no userinfo, so what the scopes allow is in the ID token.
  const extra = pending.responseType === "id_token" ? scopeClaims(state, family) : {};
  const hashes = { code, state: pending.state, accessToken: tokens?.access_token, extra };
  const fault = state.rehearsal ?? family.rehearsal;
  return {
    ...(code !== undefined && { code }),
    ...(tokens && { ...tokens, expires_in: String(tokens.expires_in) }),
    ...(asked.includes("id_token") && {
      id_token: await issueIdToken(state, family, pending.nonce, hashes, fault),
    }),
  };
}

/** The way back, with state and issuer, by the mode that was asked for. */
async function answer(
  c: Context,
  state: QuaysideState,
  request: Pick<PendingRequest, "redirectUri" | "state" | "client"> & Partial<PendingRequest>,
  parameters: Readonly<Record<string, string>> | ErrorAnswer,
): Promise<Response> {
  const issuer = issuerOf(state, request.person);
  const mode = request.responseMode ?? "query";
  const plain = {
    ...parameters,
    ...(request.state !== undefined && { state: request.state }),
    iss: issuer,
  };
  // JWT Secured Authorization Response Mode, section 2.1.
  const exp = Math.floor(state.now()) + 600;
  const fault = state.rehearsal ?? request.rehearsal;
  const change = fault === undefined ? undefined : responseFaults[fault];
  const claims = { ...(change?.(plain) ?? plain), aud: request.client.clientId, exp };
  const packed: Readonly<Record<string, string>> = mode.endsWith(".jwt")
    ? { response: await state.keys.sign((fault && packedFaults[fault]?.(claims)) ?? claims, "JWT") }
    : (change?.(plain) ?? plain);
  if (mode.startsWith("form_post"))
    return c.html(formPostPage(state.brand, request.redirectUri, Object.entries(packed)));
  const url = new URL(request.redirectUri);
  if (mode.startsWith("fragment")) url.hash = new URLSearchParams(packed).toString();
  else for (const [name, value] of Object.entries(packed)) url.searchParams.set(name, value);
  if (fault === "code-twice") url.searchParams.append("code", "another");
  if (fault === "state-twice") url.searchParams.append("state", "another");
  return c.redirect(url.href, 303);
}

function findPending(state: QuaysideState, form: FormData): readonly [string, PendingRequest | undefined] {
  const id = form.get("request");
  return typeof id === "string" ? [id, state.pending.get(id)] : ["", undefined];
}

function expired(c: Context, brand: string): Response | Promise<Response> {
  return c.html(messagePage(brand, "This page has expired", "Go back to the app and start again."), 400);
}

/**
 * The parameters of a signed request (RFC 9101 sections 5 and 6): those in the object and no others.
 *
 * @throws TokenError
 */
async function openRequest(
  state: QuaysideState,
  client: Client,
  sent: URLSearchParams,
): Promise<URLSearchParams> {
  const object = sent.get("request");
  if (object === null) {
    if (client.signsRequests !== true) return sent;
    throw new TokenError("invalid_request", "This client is registered for signed requests.");
  }
  const refuse = (why: string) => new TokenError("invalid_request_object", why);
  const algorithms = ["EdDSA", "ES256", "PS256", "RS256"] as const;
  try {
    const { kid } = decodeJws(object).header;
    const key = client.publicKeys?.find((each) => each.kid === kid);
    if (!key) throw refuse("It is signed with no registered key.");
    const { payload } = await verifyJws(tools, object, algorithms, (_, algorithm) =>
      prepareKey(tools, key, algorithm, "verify"),
    );
    const { iss, aud, exp, iat: _iat, nbf: _nbf, jti: _jti, ...parameters } = payload;
    if (iss !== client.clientId || aud !== issuerOf(state) || !(Number(exp) > state.now()))
      throw refuse("It is not from this client, for this provider, and in time.");
    const members = Object.entries(parameters).flatMap(([name, value]) =>
      (Array.isArray(value) && name === "resource" ? (value as unknown[]) : [value]).map(
        (each): [string, string] => [name, typeof each === "string" ? each : JSON.stringify(each)],
      ),
    );
    return new URLSearchParams(members);
  } catch (error) {
    throw error instanceof TokenError ? error : refuse("It cannot be read.");
  }
}

const tools = createTools();

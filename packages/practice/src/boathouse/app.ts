import { timingSafeEqual } from "node:crypto";
import { Hono, type Context } from "hono";
import { createTools, decodeJws, prepareKey, verifyJws } from "tenonsaw/jose";
import { answer, find, refuse } from "../plain-oauth.js";
import { respond, TokenError } from "../quayside/authenticate.js";
import { randomText, sha256, type Client } from "../quayside/state.js";
import { isRehearsal, type RehearsalName } from "../rehearsals.js";
import {
  clinicTokenFaults,
  configurationFaults,
  contextFaults,
  openingFaults,
  requestFaults,
  styleFaults,
} from "./faults.js";
import { answerFhir, nameOfRower } from "./fhir.js";
import { pickPage, wardPage, type WardChoice } from "./pages.js";
import { rowers } from "./records.js";
import {
  baseOf,
  houses,
  issuerAt,
  type ClinicState,
  type Clearance,
  type Opening,
  type Request,
  type StyleName,
} from "./state.js";

/** What the clinic can do, in the words of SMART App Launch 2.2. */
const capabilities = [
  "launch-ehr",
  "launch-standalone",
  "client-public",
  "client-confidential-symmetric",
  "client-confidential-asymmetric",
  "sso-openid-connect",
  "context-banner",
  "context-style",
  "context-ehr-patient",
  "context-ehr-encounter",
  "context-standalone-patient",
  "context-standalone-encounter",
  "permission-offline",
  "permission-online",
  "permission-patient",
  "permission-user",
  "permission-v1",
  "permission-v2",
];

const styles: Readonly<Record<Exclude<StyleName, "none">, Readonly<Record<string, string>>>> = {
  calm: {
    color_background: "#f4f7f6",
    color_text: "#22303a",
    color_highlight: "#7a3b52",
    color_error: "#a3311f",
    color_success: "#2d6a4f",
    color_modal_backdrop: "#c4cfcd",
    dim_border_radius: "6px",
    dim_font_size: "15px",
    dim_spacing_size: "16px",
    font_family_body: "system-ui, sans-serif",
    font_family_heading: "system-ui, sans-serif",
  },
  night: {
    color_background: "#1e2629",
    color_text: "#e4e8e7",
    color_highlight: "#e2a7bb",
    color_error: "#f0a08f",
    color_success: "#8fcfae",
    color_modal_backdrop: "#3a474b",
    dim_border_radius: "2px",
    dim_font_size: "15px",
    dim_spacing_size: "16px",
    font_family_body: "Georgia, serif",
    font_family_heading: "Georgia, serif",
  },
};

/** How long a launch value waits for its app, in seconds. */
const openingSeconds = 300;
const codeSeconds = 60;

/**
 * Boathouse Clinic: a host with health records (FHIR R4) that opens apps in a frame or in a tab, by SMART App Launch 2.2. It has
 * two houses, each a FHIR server of its own.
 */
export function createBoathouse(state: ClinicState): Hono {
  const app = new Hono();
  app.get("/", (c) => c.redirect(`/${houses[0]}/ward`));
  for (const house of houses) addHouse(app, state, house);
  return app;
}

function addHouse(app: Hono, state: ClinicState, house: string): void {
  const base = baseOf(state, house);
  const at = (path: string) => `${state.origin}/${house}${path}`;

  app.get(`/${house}/fhir/.well-known/smart-configuration`, (c) => {
    const configuration = {
      issuer: issuerAt(state, house),
      jwks_uri: at("/keys"),
      authorization_endpoint: at("/authorize"),
      token_endpoint: at("/token"),
      introspection_endpoint: at("/introspect"),
      revocation_endpoint: at("/revoke"),
      grant_types_supported: ["authorization_code", "client_credentials"],
      response_types_supported: ["code"],
      scopes_supported: [
        "openid",
        "fhirUser",
        "launch",
        "launch/patient",
        "patient/*.rs",
        "user/*.rs",
        "system/*.rs",
        "offline_access",
      ],
      token_endpoint_auth_methods_supported: ["client_secret_basic", "private_key_jwt"],
      code_challenge_methods_supported: ["S256"],
      capabilities,
    };
    const fault = configurationFaults[state.rehearsal() ?? ("" as RehearsalName)];
    return fault ? fault(configuration) : c.json(configuration);
  });
  app.get(`/${house}/keys`, (c) => c.json({ keys: state.keys.published() }));
  app.get(`/${house}/style/:name`, (c) => {
    const name = c.req.param("name");
    const fault = styleFaults[name as RehearsalName];
    return fault ? fault() : c.json(styles[name as "calm"]);
  });
  addWard(app, state, house);
  addAuthorization(app, state, house);

  app.post(`/${house}/token`, async (c) => {
    const form = new URLSearchParams(await c.req.text());
    return respond(c, async () => {
      const client = await authenticate(state, c, form, at("/token"));
      switch (form.get("grant_type")) {
        case "authorization_code":
          return exchange(state, house, client, form);
        case "refresh_token":
          return refresh(state, client, form);
        case "client_credentials":
          return machine(state, house, client, form);
        default:
          throw new TokenError("unsupported_grant_type", "The clinic knows three.");
      }
    });
  });
  // RFC 7009.
  app.post(`/${house}/revoke`, async (c) => {
    const form = new URLSearchParams(await c.req.text());
    return respond(c, async () => {
      await authenticate(state, c, form, at("/token"));
      const token = form.get("token") ?? "";
      const found = state.refreshTokens.get(token) ?? state.accessTokens.get(token);
      if (found) found.family.isRevoked = true;
      return {};
    });
  });
  // SMART App Launch 2.2, Token Introspection.
  app.post(`/${house}/introspect`, async (c) => {
    const form = new URLSearchParams(await c.req.text());
    return respond(c, async () => {
      const client = await authenticate(state, c, form, at("/token"));
      const found = state.accessTokens.get(form.get("token") ?? "");
      if (!found || found.endsAt <= state.now() || found.family.isRevoked) return { active: false };
      const { scope, patient, encounter, endsAt, family } = found;
      const fhirUser = family.person && { fhirUser: `${base}/Practitioner/${family.person.id}` };
      return {
        active: true,
        client_id: client.clientId,
        iss: issuerAt(state, house),
        aud: base,
        scope: scope.join(" "),
        exp: Math.floor(endsAt),
        patient,
        encounter,
        ...fhirUser,
      };
    });
  });
  app.get(`/${house}/fhir/*`, (c) => answerFhir(state, house, c));
}

/** The ward opens the registered apps. */
function addWard(app: Hono, state: ClinicState, house: string): void {
  const apps = () => [...state.clients.values()].filter(({ launchUrl }) => launchUrl !== undefined);
  const read = (c: Context): WardChoice => ({
    patient: c.req.query("patient") ?? rowers[0]?.id ?? "",
    app: c.req.query("app") ?? apps()[0]?.clientId ?? "",
    banner: c.req.query("banner") ?? "host",
    style: c.req.query("style") ?? "calm",
    rehearsal: c.req.query("rehearsal") ?? "",
  });
  /** The address that opens an app: its launch URL, with the host's base and a value of its own. */
  const open = ({ patient, app: id, banner, style, rehearsal }: WardChoice): string | undefined => {
    const client = apps().find(({ clientId }) => clientId === id);
    const rower = rowers.find((each) => each.id === patient);
    // The ward's own user is whoever is on duty.
    const person = state.people.find(({ isSuspended }) => !isSuspended);
    if (client?.launchUrl === undefined || !rower || !person) return undefined;
    const value = randomText();
    const fault = isRehearsal(rehearsal) ? rehearsal : state.rehearsal();
    state.openings.set(value, {
      house,
      clientId: client.clientId,
      person,
      patient: rower.id,
      encounter: rower.visit,
      showsBanner: banner === "host",
      style: style === "calm" || style === "night" ? style : "none",
      rehearsal: fault,
      expiresAt: state.now() + openingSeconds,
      isUsed: false,
    });
    const url = new URL(client.launchUrl);
    url.searchParams.set("iss", baseOf(state, house));
    url.searchParams.set("launch", value);
    openingFaults[fault ?? ("" as RehearsalName)]?.(url);
    return url.href;
  };
  app.get(`/${house}/ward`, (c) => {
    const chosen = read(c);
    const patients = rowers.map(({ id, birthDate }) => ({ id, name: nameOfRower(id), birthDate }));
    const titles = apps().map(({ clientId, title }) => ({ id: clientId, title }));
    c.header("cache-control", "no-store");
    return c.html(wardPage(house, chosen, patients, titles, open(chosen)));
  });
  app.get(`/${house}/ward/tab`, (c) => {
    const url = open(read(c));
    return url === undefined ? refuse(c, "Boathouse Clinic") : c.redirect(url, 303);
  });
  // For tests and the command line, where nobody presses buttons.
  app.post(`/${house}/ward/openings`, (c) => {
    const url = open(read(c));
    return url === undefined ? c.json({ error: "no such app or patient" }, 400) : c.json({ url });
  });
}

/** SMART App Launch 2.2, Obtain authorization code. */
function addAuthorization(app: Hono, state: ClinicState, house: string): void {
  const pick = `/${house}/authorize/pick`;
  app.get(`/${house}/authorize`, (c) => {
    const query = new URL(c.req.url).searchParams;
    const client = state.clients.get(query.get("client_id") ?? "");
    const redirectUri = query.get("redirect_uri") ?? "";
    if (!client?.redirectUris.includes(redirectUri)) return refuse(c, "Boathouse Clinic");
    const value = query.get("launch");
    const opening = value === null ? undefined : state.openings.get(value);
    const request: Request = {
      house,
      client,
      redirectUri,
      state: query.get("state"),
      nonce: query.get("nonce"),
      scope: (query.get("scope") ?? "").split(" ").filter((each) => each !== ""),
      codeChallenge: query.get("code_challenge") ?? "",
      opening,
      rehearsal: opening ? opening.rehearsal : state.rehearsal(),
    };
    const fault = findRequestFault(state, request, query);
    if (fault) {
      const [error, description] = fault;
      return c.redirect(answer(request, { error, error_description: description }), 303);
    }
    if (opening) {
      opening.isUsed = true;
      const { person, patient, encounter } = opening;
      return c.redirect(approve(state, Object.assign(request, { person, patient, encounter })), 303);
    }
    // OpenID Connect Core 1.0 section 3.1.2.1: whoever wants nobody asked gets no page.
    if (query.get("prompt") === "none") return c.redirect(answer(request, { error: "login_required" }), 303);
    const id = randomText();
    state.requests.set(id, request);
    return ask(c, id, request);
  });
  const ask = (c: Context, id: string, request: Request) => {
    const { scope, client } = request;
    if (!request.person) {
      const staff = state.people.filter(({ isSuspended }) => !isSuspended);
      const choices = staff.map(({ id: value, name, roles }) => ({
        value,
        text: name,
        more: roles.join(", "),
      }));
      return c.html(
        pickPage(
          pick,
          id,
          `Sign in to go on to ${client.title}`,
          "Pick a made-up member of staff. There are no passwords here.",
          choices,
          true,
        ),
      );
    }
    if (scope.includes("launch/patient") && request.patient === undefined) {
      const choices = rowers.map(({ id: value, birthDate }) => ({
        value,
        text: nameOfRower(value),
        more: `born ${birthDate}`,
      }));
      return c.html(pickPage(pick, id, "Whose record?", `${client.title} asks for a patient.`, choices));
    }
    if (scope.includes("launch/encounter") && request.encounter === undefined) {
      const visits = rowers.filter((each) => request.patient === undefined || each.id === request.patient);
      const choices = visits.map(({ visit: value }) => ({ value, text: `Visit ${value}`, more: "today" }));
      return c.html(pickPage(pick, id, "Which visit?", `${client.title} asks for a visit.`, choices));
    }
    const choices = [
      { value: "allow", text: "Allow" },
      { value: "decline", text: "Do not allow" },
    ];
    return c.html(
      pickPage(pick, id, `Let ${client.title} in?`, `It asks for: ${scope.join(", ")}.`, choices),
    );
  };
  app.post(pick, async (c) => {
    const form = await c.req.formData();
    const [id, request] = find(state.requests, form);
    const choice = form.get("choice");
    const rehearsal = form.get("rehearsal");
    if (!request || typeof choice !== "string") return refuse(c, "Boathouse Clinic");
    if (typeof rehearsal === "string" && isRehearsal(rehearsal)) request.rehearsal = rehearsal;
    if (choice === "decline") return c.redirect(answer(request, { error: "access_denied" }), 303);
    if (choice === "allow" && request.person) {
      state.requests.delete(id);
      return c.redirect(approve(state, request), 303);
    }
    const person = state.people.find((each) => each.id === choice && !each.isSuspended);
    const rower = rowers.find((each) => each.id === choice || each.visit === choice);
    if (!request.person && person) request.person = person;
    else if (rower?.id === choice) request.patient = choice;
    else if (rower?.visit === choice) request.encounter = choice;
    else return refuse(c, "Boathouse Clinic");
    return ask(c, id, request);
  });
}

function findRequestFault(
  state: ClinicState,
  { house, client, codeChallenge, opening, scope, rehearsal }: Request,
  query: URLSearchParams,
): readonly [string, string] | undefined {
  const fault = rehearsal && requestFaults[rehearsal];
  if (fault) return fault;
  if (query.get("response_type") !== "code") return ["unsupported_response_type", "Only code."];
  if (query.get("code_challenge_method") !== "S256" || codeChallenge.length !== 43)
    return ["invalid_request", "PKCE with S256 is required."];
  if (query.get("aud") !== baseOf(state, house))
    return ["invalid_request", `aud has to be ${baseOf(state, house)}.`];
  if (!query.get("state")) return ["invalid_request", "state is required."];
  if (query.has("launch") !== scope.includes("launch"))
    return ["invalid_scope", "The scope launch and the parameter launch belong together."];
  if (!query.has("launch")) return undefined;
  if (!opening) return ["invalid_request", "The launch value is not known here."];
  if (opening.isUsed) return ["invalid_request", "The launch value was used before."];
  if (opening.expiresAt <= state.now()) return ["invalid_request", "The launch value is not valid any more."];
  if (opening.clientId !== client.clientId || opening.house !== house)
    return ["invalid_request", "The launch value is another app's."];
  return undefined;
}

function approve(state: ClinicState, request: Request): string {
  const code = randomText();
  state.codes.set(code, request);
  setTimeout(() => state.codes.delete(code), codeSeconds * 1000).unref();
  return answer(request, { code });
}

async function exchange(
  state: ClinicState,
  house: string,
  client: Client,
  form: URLSearchParams,
): Promise<object> {
  const code = form.get("code") ?? "";
  const request = state.codes.get(code);
  state.codes.delete(code);
  const isRight =
    request?.client === client &&
    request.house === house &&
    form.get("redirect_uri") === request.redirectUri &&
    sha256(form.get("code_verifier") ?? "").toString("base64url") === request.codeChallenge;
  if (!isRight) throw new TokenError("invalid_grant", "The code is not good for this.");
  const { person, opening, scope, rehearsal, nonce } = request;
  const isOther = rehearsal === "context-patient-of-another";
  const { patient, encounter } = isOther ? { patient: "rower-jun", encounter: "visit-202" } : request;
  const family = { client, ...(person && { person }), rehearsal, isRevoked: false };
  const granted =
    rehearsal === "scope-narrower" ? scope.filter((each) => !each.includes("Observation")) : scope;
  const tokens = issue(state, { house, family, scope: granted, patient, encounter, opening, endsAt: 0 });
  const idToken = scope.includes("openid") &&
    person && {
      id_token: await state.keys.sign(
        {
          iss: issuerAt(state, house),
          sub: person.subject,
          aud: client.clientId,
          iat: Math.floor(state.now()),
          exp: Math.floor(state.now()) + 300,
          ...(nonce !== null && { nonce }),
          name: person.name,
          ...(scope.includes("fhirUser") && {
            fhirUser:
              rehearsal === "fhir-user-number" ? 7 : `${baseOf(state, house)}/Practitioner/${person.id}`,
          }),
        },
        "JWT",
      ),
    };
  const fault = rehearsal && clinicTokenFaults[rehearsal];
  const whole = { ...tokens, ...idToken };
  return fault ? fault(whole) : whole;
}

/** Tokens, with the context that they are for (SMART App Launch 2.2, Launch Context). */
function issue(state: ClinicState, clearance: Clearance): object {
  const { family, scope, house, patient, encounter, opening } = clearance;
  const [accessToken, refreshToken] = [randomText(), randomText()];
  const kept = { ...clearance, endsAt: state.now() + state.accessTokenSeconds };
  state.accessTokens.set(accessToken, kept);
  const isRenewable = scope.includes("offline_access") || scope.includes("online_access");
  if (isRenewable) state.refreshTokens.set(refreshToken, kept);
  const { rehearsal } = family;
  const styleName = rehearsal && styleFaults[rehearsal] ? rehearsal : opening?.style;
  const hasStyle = styleName !== undefined && styleName !== "none";
  const members = {
    ...(patient !== undefined && { patient }),
    ...(encounter !== undefined && { encounter }),
    ...(opening && { need_patient_banner: !opening.showsBanner, intent: "review-training", tenant: house }),
    ...(hasStyle && { smart_style_url: `${state.origin}/${house}/style/${styleName}` }),
  };
  const fault = rehearsal && contextFaults[rehearsal];
  return {
    access_token: accessToken,
    token_type: "Bearer",
    expires_in: state.accessTokenSeconds,
    scope: scope.join(" "),
    ...(isRenewable && { refresh_token: refreshToken }),
    ...(fault ? fault(members) : members),
  };
}

function refresh(state: ClinicState, client: Client, form: URLSearchParams): object {
  const token = form.get("refresh_token") ?? "";
  const found = state.refreshTokens.get(token);
  state.refreshTokens.delete(token);
  if (found?.family.client !== client || found.family.isRevoked)
    throw new TokenError("invalid_grant", "The refresh token is not good any more.");
  const isSwitched = found.family.rehearsal === "patient-switched-on-refresh";
  return issue(state, isSwitched ? { ...found, patient: "rower-jun", encounter: "visit-202" } : found);
}

/** SMART App Launch 2.2, Backend Services: a client that signs, and no person. */
function machine(state: ClinicState, house: string, client: Client, form: URLSearchParams): object {
  if (!client.publicKeys) throw new TokenError("unauthorized_client", "That takes a client that signs.");
  const scope = (form.get("scope") ?? "").split(" ");
  if (!scope.every((each) => each.startsWith("system/")))
    throw new TokenError("invalid_scope", "Only system/ scopes.");
  return issue(state, { house, family: { client, isRevoked: false }, scope, endsAt: 0 });
}

const tools = createTools();

/** SMART App Launch 2.2, Client Authentication: a public client, a secret in Basic, or an assertion in RS384 or ES384. */
async function authenticate(
  state: ClinicState,
  c: Context,
  form: URLSearchParams,
  endpoint: string,
): Promise<Client> {
  const refused = (why: string) => new TokenError("invalid_client", why, 401);
  const [, basic = ""] = /^Basic (.+)$/i.exec(c.req.header("authorization") ?? "") ?? [];
  const [id = "", secret = ""] = Buffer.from(basic, "base64").toString().split(":").map(decodeURIComponent);
  const client = state.clients.get(basic === "" ? (form.get("client_id") ?? idOf(form)) : id);
  if (!client) throw refused("This client is not registered.");
  const assertion = form.get("client_assertion");
  if (client.publicKeys) {
    const why = assertion === null ? "there is none" : await findFault(state, client, assertion, endpoint);
    if (why !== undefined) throw refused(`The client assertion is not accepted: ${why}.`);
    return client;
  }
  if (client.clientSecret === undefined) return client;
  if (!timingSafeEqual(sha256(secret), sha256(client.clientSecret))) throw refused("The secret is wrong.");
  return client;
}

/** The standard sends no client_id beside an assertion: who it is stands in it. */
function idOf(form: URLSearchParams): string {
  try {
    return String(decodeJws(form.get("client_assertion") ?? "").payload["sub"]);
  } catch {
    return "";
  }
}

async function findFault(
  state: ClinicState,
  { clientId, publicKeys = [] }: Client,
  assertion: string,
  endpoint: string,
): Promise<string | undefined> {
  try {
    const { typ, kid } = decodeJws(assertion).header;
    if (typ !== "JWT") return "typ has to be JWT";
    const key = publicKeys.find((each) => each.kid === kid);
    if (!key) return "its kid is none of the registered keys";
    const { payload } = await verifyJws(tools, assertion, ["RS384", "ES384"], (_, algorithm) =>
      prepareKey(tools, key, algorithm, "verify"),
    );
    const { iss, sub, aud, exp, jti } = payload;
    if (iss !== clientId || sub !== clientId) return "iss and sub have to be the client ID";
    if (aud !== endpoint) return `aud has to be ${endpoint}`;
    if (!(Number(exp) > state.now() && Number(exp) <= state.now() + 300))
      return "exp is past, or more than five minutes ahead";
    if (typeof jti !== "string" || state.assertions.has(jti)) return "jti is missing or was used before";
    state.assertions.add(jti);
    return undefined;
  } catch {
    return "its signature fits none of the registered keys";
  }
}

export type { Opening };

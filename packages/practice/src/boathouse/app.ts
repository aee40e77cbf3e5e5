import { Hono } from "hono";
import { respond, TokenError } from "../quayside/authenticate.js";
import type { RehearsalName } from "../rehearsals.js";
import { authenticate } from "./authenticate.js";
import { addAuthorization } from "./authorize.js";
import { configurationFaults, styleFaults } from "./faults.js";
import { answerFhir } from "./fhir.js";
import { baseOf, houses, issuerAt, type ClinicState, type StyleName } from "./state.js";
import { exchange, machine, refresh } from "./token.js";
import { addWard } from "./ward.js";

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

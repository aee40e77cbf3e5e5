import { TokenError } from "../quayside/authenticate.js";
import { randomText } from "../random-text.js";
import { sha256, type Client } from "../quayside/state.js";
import { clinicTokenFaults, contextFaults, styleFaults } from "./faults.js";
import { baseOf, issuerAt, type Clearance, type ClinicState } from "./state.js";

/** A code for tokens (SMART App Launch 2.2, Obtain access token). */
export async function exchange(
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

export function refresh(state: ClinicState, client: Client, form: URLSearchParams): object {
  const token = form.get("refresh_token") ?? "";
  const found = state.refreshTokens.get(token);
  state.refreshTokens.delete(token);
  if (found?.family.client !== client || found.family.isRevoked)
    throw new TokenError("invalid_grant", "The refresh token is not good any more.");
  const isSwitched = found.family.rehearsal === "patient-switched-on-refresh";
  const { encounter: _, ...clearance } = found;
  return issue(state, isSwitched ? { ...clearance, patient: "rower-jun" } : found);
}

/** SMART App Launch 2.2, Backend Services: a client that signs, and no person. */
export function machine(state: ClinicState, house: string, client: Client, form: URLSearchParams): object {
  if (!client.publicKeys) throw new TokenError("unauthorized_client", "That takes a client that signs.");
  const scope = (form.get("scope") ?? "").split(" ");
  if (!scope.every((each) => each.startsWith("system/")))
    throw new TokenError("invalid_scope", "Only system/ scopes.");
  return issue(state, { house, family: { client, isRevoked: false }, scope, endsAt: 0 });
}

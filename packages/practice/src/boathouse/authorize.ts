import type { Context, Hono } from "hono";
import { answer, find, refuse } from "../plain-oauth.js";
import { randomText } from "../random-text.js";
import { isRehearsal } from "../rehearsals.js";
import { requestFaults } from "./faults.js";
import { nameOfRower } from "./fhir.js";
import { pickPage } from "./pages.js";
import { rowers } from "./records.js";
import { baseOf, type ClinicState, type Request } from "./state.js";

const codeSeconds = 60;

/** SMART App Launch 2.2, Obtain authorization code. */
export function addAuthorization(app: Hono, state: ClinicState, house: string): void {
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

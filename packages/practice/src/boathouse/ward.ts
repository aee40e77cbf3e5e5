import type { Context, Hono } from "hono";
import { refuse } from "../plain-oauth.js";
import { randomText } from "../random-text.js";
import { isRehearsal, type RehearsalName } from "../rehearsals.js";
import { openingFaults } from "./faults.js";
import { nameOfRower } from "./fhir.js";
import { wardPage, type WardChoice } from "./pages.js";
import { rowers } from "./records.js";
import { baseOf, type ClinicState } from "./state.js";

/** How long a launch value waits for its app, in seconds. */
const openingSeconds = 300;

/** The ward opens the registered apps. */
export function addWard(app: Hono, state: ClinicState, house: string): void {
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

import { Hono } from "hono";
import { keySetFaults, metadataFaults } from "../faults.js";
import { addAuthorize } from "./authorize.js";
import { addCranes } from "./cranes.js";
import { addDevice } from "./device.js";
import { addEndSession } from "./end-session.js";
import { metadata } from "./metadata.js";
import { addIntrospect } from "./introspect.js";
import { messagePage } from "./pages.js";
import { addRegister } from "./register.js";
import type { QuaysideState } from "./state.js";
import { addToken } from "./token.js";
import { addUserinfo } from "./userinfo.js";

/** Quayside ID: an OpenID provider that does everything by the book; or Harbour Union, the same for organisations. */
export function createQuayside(state: QuaysideState): Hono {
  const app = new Hono();
  app.get("/", (c) => c.html(messagePage(state.brand, state.brand, "An OpenID provider to practise with.")));
  const wellKnown = state.hasOrganisations ? "/common" : "";
  app.get(`${wellKnown}/.well-known/openid-configuration`, (c) => {
    const change = state.rehearsal === undefined ? undefined : metadataFaults[state.rehearsal];
    return change ? change(metadata(state)) : c.json(metadata(state));
  });
  app.get("/keys", (c) => {
    const change = state.rehearsal === undefined ? undefined : keySetFaults[state.rehearsal];
    return change ? change(state.keys.published()) : c.json({ keys: state.keys.published() });
  });
  addRegister(app, state);
  addAuthorize(app, state);
  addDevice(app, state);
  addToken(app, state);
  addIntrospect(app, state);
  addUserinfo(app, state);
  addEndSession(app, state);
  if (state.hasOrganisations) addCranes(app, state);
  return app;
}

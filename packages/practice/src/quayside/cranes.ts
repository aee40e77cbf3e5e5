import type { Hono } from "hono";
import { createDoor } from "../read-access-token.js";
import { issuerOf, organisationPlaceholder, type QuaysideState } from "./state.js";

/** Harbour Union's own API. It takes access tokens of format 2 only, of any of its organisations. */
export function addCranes(app: Hono, state: QuaysideState): void {
  const [before = "", after = ""] = issuerOf(state).split(organisationPlaceholder);
  const admit = createDoor("cranes", {
    isIssuer: (iss) => iss.startsWith(before) && iss.endsWith(after),
    audience: state.audience,
    keySetUrl: `${state.issuer}/keys`,
    algorithm: state.keys.algorithm,
    now: state.now,
  });
  app.get("/cranes", async (c) => {
    const admission = await admit(c.req.raw, "cranes.operate");
    if (admission.kind === "refused") {
      c.header("www-authenticate", admission.challenge);
      if (admission.nonce !== undefined) c.header("dpop-nonce", admission.nonce);
      return c.json({ message: admission.message }, admission.status);
    }
    return c.json({
      cranes: [
        { name: "Long Arm", isFree: true },
        { name: "Old Bess", isFree: false },
      ],
    });
  });
}

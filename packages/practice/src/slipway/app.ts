import { Hono } from "hono";
import { createDoor, type AccessTokenSettings } from "../read-access-token.js";

/** Slipway: gate and crane status, for machines that bring an access token of their own with `slipway.status`. */
export function createSlipway(settings: AccessTokenSettings): Hono {
  const admit = createDoor("Slipway", settings);
  const app = new Hono();
  app.get("/", (c) =>
    c.text("Slipway, a practice API for machines. Try /status with an access token for slipway.status."),
  );
  app.get("/status", async (c) => {
    const admission = await admit(c.req.raw, "slipway.status");
    if (admission.kind === "refused") {
      c.header("www-authenticate", admission.challenge);
      if (admission.nonce !== undefined) c.header("dpop-nonce", admission.nonce);
      return c.json({ error: admission.message }, admission.status);
    }
    c.header("cache-control", "no-store");
    return c.json({ gate: "open", crane: "idle", asked: admission.claims["client_id"] });
  });
  return app;
}

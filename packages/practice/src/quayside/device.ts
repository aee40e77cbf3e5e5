import { randomInt } from "node:crypto";
import type { Hono } from "hono";
import { authenticate, respond, TokenError } from "./authenticate.js";
import { scopes } from "./metadata.js";
import { choosePersonPage, enterCodePage } from "./pages.js";
import { randomText } from "../random-text.js";
import type { QuaysideState } from "./state.js";

/** How often a device may ask, in seconds. */
export const deviceIntervalSeconds = 1;
const deviceSeconds = 300;
/** RFC 8628 section 6.1: no vowels, so that no words come about, and nothing that looks like something else. */
const letters = "BCDFGHJKLMNPQRSTVWXZ";

/** Device authorization: RFC 8628 sections 3.1–3.3. */
export function addDevice(app: Hono, state: QuaysideState): void {
  app.post("/device-authorization", async (c) => {
    const form = new URLSearchParams(await c.req.text());
    return respond(c, async () => {
      const client = await authenticate(state, c, form);
      const scope = (form.get("scope") ?? "").split(" ").filter((part) => part !== "");
      const unknown = scope.filter((part) => !Object.hasOwn(scopes, part));
      if (unknown.length > 0) throw new TokenError("invalid_scope", `Not offered: ${unknown.join(" ")}.`);
      const [deviceCode, userCode] = [randomText(), makeUserCode()];
      const expiresAt = state.now() + deviceSeconds;
      state.devices.set(deviceCode, { userCode, client, scope, expiresAt, askedAt: -Infinity });
      return {
        device_code: deviceCode,
        user_code: userCode,
        verification_uri: `${state.issuer}/device`,
        verification_uri_complete: `${state.issuer}/device?user_code=${userCode}`,
        expires_in: deviceSeconds,
        interval: deviceIntervalSeconds,
      };
    });
  });

  app.get("/device", (c) => c.html(enterCodePage(state.brand, c.req.query("user_code") ?? "")));

  app.post("/device", async (c) => {
    const entered = (await c.req.formData()).get("user_code");
    const plain = typeof entered === "string" ? entered.toUpperCase().replace(/[^A-Z]/g, "") : "";
    const device = [...state.devices.values()].find(({ userCode }) => userCode.replace("-", "") === plain);
    if (!device || device.decision !== undefined || device.expiresAt < state.now()) {
      return c.html(enterCodePage(state.brand, "", "There is no such code, or it is too old."), 400);
    }
    const id = randomText();
    const { client, scope } = device;
    const none = {
      redirectUri: "",
      state: undefined,
      nonce: undefined,
      codeChallenge: "",
      responseType: "",
      responseMode: "",
      maxAge: Infinity,
      prompt: [],
    };
    state.pending.set(id, { client, scope, device, ...none });
    return c.html(choosePersonPage(state.brand, id, client.title, state.people));
  });
}

function makeUserCode(): string {
  const make = () => Array.from({ length: 4 }, () => letters[randomInt(letters.length)]).join("");
  return `${make()}-${make()}`;
}

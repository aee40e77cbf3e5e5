import { Hono, type Context } from "hono";
import { wharfAnswerFaults, wharfCallbackFaults, wharfProfileFaults } from "../faults.js";
import type { Person } from "../people.js";
import { choosePersonPage, consentPage, messagePage } from "../quayside/pages.js";
import { randomText } from "../random-text.js";
import type { Client } from "../quayside/state.js";
import { isRehearsal, type RehearsalName } from "../rehearsals.js";
import { isSignatureGood, readSignedRequest, type SignedRequest } from "./verify-signature.js";

const brand = "Old Wharf Archive";
/** How far the two clocks may differ. */
const clockToleranceSeconds = 300;

export interface OldWharfState {
  readonly origin: string;
  readonly people: readonly Person[];
  readonly clients: ReadonlyMap<string, Client>;
  readonly now: () => number;
  /** What is played for everybody. */
  readonly rehearsal: () => RehearsalName | undefined;
}

interface Temporary {
  readonly client: Client;
  readonly secret: string;
  readonly callback: string;
  person?: Person;
  verifier?: string;
  rehearsal?: RehearsalName | undefined;
}

interface Token {
  readonly client: Client;
  readonly secret: string;
  readonly person: Person;
  readonly rehearsal: RehearsalName | undefined;
}

/** Old Wharf Archive: OAuth 1.0a (RFC 5849), and an API of boxes to look into. */
export function createOldWharf(state: OldWharfState): Hono {
  const app = new Hono();
  const temporary = new Map<string, Temporary>();
  const tokens = new Map<string, Token>();
  const nonces = new Set<string>();

  /** The client whose signature it is; a reason where it is nobody's. */
  const admit = (signed: SignedRequest, secret: string): Client | string => {
    const { protocol } = signed;
    if (!protocol) return "oauth parameters in two places, or twice";
    const client = state.clients.get(protocol.get("oauth_consumer_key") ?? "");
    if (!client) return "unknown consumer key";
    if ((protocol.get("oauth_version") ?? "1.0") !== "1.0") return "another version";
    if (protocol.get("oauth_signature_method") !== "PLAINTEXT") {
      const stamp = Number(protocol.get("oauth_timestamp"));
      if (!(Math.abs(stamp - state.now()) <= clockToleranceSeconds)) return "timestamp refused";
      const nonce = `${stamp} ${protocol.get("oauth_nonce") ?? ""} ${protocol.get("oauth_token") ?? ""}`;
      if (protocol.get("oauth_nonce") === undefined || nonces.has(nonce)) return "nonce used";
      nonces.add(nonce);
    }
    return isSignatureGood(signed, { ...client, publicKey: client.publicKeys?.[0] }, secret)
      ? client
      : "signature invalid";
  };
  const refuse = (c: Context, why: string) => {
    c.header("www-authenticate", `OAuth realm="${state.origin}"`);
    return c.text(why, 401);
  };
  const answerWith = (
    kind: "temporary" | "token",
    fields: Record<string, string>,
    rehearsal: RehearsalName | undefined,
  ): Response => {
    const fault = rehearsal && wharfAnswerFaults[rehearsal];
    if (fault && rehearsal.startsWith(kind === "temporary" ? "temporary-" : "token-credentials-"))
      return fault(fields);
    return form(fields);
  };

  app.get("/", (c) => c.html(messagePage(brand, brand, "OAuth 1.0a to practise with.")));

  app.post("/initiate", async (c) => {
    const signed = await readSignedRequest(c.req.raw, state.origin);
    const client = admit(signed, "");
    if (typeof client === "string") return refuse(c, client);
    const callback = signed.protocol?.get("oauth_callback") ?? "";
    if (!client.redirectUris.includes(callback)) return refuse(c, "callback not registered");
    const [token, secret] = [randomText(), randomText()];
    const rehearsal = state.rehearsal();
    temporary.set(token, { client, secret, callback, rehearsal });
    return answerWith(
      "temporary",
      { oauth_token: token, oauth_token_secret: secret, oauth_callback_confirmed: "true" },
      rehearsal,
    );
  });

  app.get("/authorize", (c) => {
    const id = c.req.query("oauth_token") ?? "";
    const asked = temporary.get(id);
    if (!asked || asked.person)
      return c.html(messagePage(brand, "This did not work", "Start again at the app."), 400);
    return c.html(choosePersonPage(brand, id, asked.client.title, state.people, "oauth1"));
  });

  app.post("/authorize/person", async (c) => {
    const fields = new URLSearchParams(await c.req.text());
    const id = fields.get("request") ?? "";
    const asked = temporary.get(id);
    const person = state.people.find((candidate) => candidate.id === fields.get("person"));
    if (!asked || !person || person.isSuspended)
      return c.html(messagePage(brand, "This did not work", "Go back to the app and start again."), 400);
    const chosen = fields.get("rehearsal");
    if (chosen !== null && isRehearsal(chosen)) asked.rehearsal = chosen;
    asked.person = person;
    return c.html(consentPage(brand, id, asked.client.title, person, ["boxes"]));
  });

  app.post("/authorize/decision", async (c) => {
    const fields = new URLSearchParams(await c.req.text());
    const id = fields.get("request") ?? "";
    const asked = temporary.get(id);
    if (!asked?.person)
      return c.html(messagePage(brand, "This did not work", "Start again at the app."), 400);
    const { callback, rehearsal } = asked;
    if (fields.get("decision") !== "allow" || rehearsal === "wharf-declined") {
      temporary.delete(id);
      return c.redirect(extended(callback, { denied: id }), 303);
    }
    asked.verifier = randomText();
    const back = { oauth_token: id, oauth_verifier: asked.verifier };
    const fault = rehearsal && wharfCallbackFaults[rehearsal];
    return c.redirect(fault ? fault(extended(callback, back)) : extended(callback, back), 303);
  });

  app.post("/token", async (c) => {
    const signed = await readSignedRequest(c.req.raw, state.origin);
    const id = signed.protocol?.get("oauth_token") ?? "";
    const asked = temporary.get(id);
    temporary.delete(id);
    const client = asked ? admit(signed, asked.secret) : "unknown token";
    if (typeof client === "string") return refuse(c, client);
    if (!asked?.person || asked.client.clientId !== client.clientId) return refuse(c, "not authorized");
    if (asked.verifier === undefined || signed.protocol?.get("oauth_verifier") !== asked.verifier)
      return refuse(c, "verifier invalid");
    const [token, secret] = [randomText(), randomText()];
    tokens.set(token, { client, secret, person: asked.person, rehearsal: asked.rehearsal });
    return answerWith("token", { oauth_token: token, oauth_token_secret: secret }, asked.rehearsal);
  });

  /** Whose token it is. */
  const enter = async (c: Context): Promise<Token | string> => {
    const signed = await readSignedRequest(c.req.raw, state.origin);
    const found = tokens.get(signed.protocol?.get("oauth_token") ?? "");
    if (!found) return "unknown token";
    const client = admit(signed, found.secret);
    if (typeof client === "string") return client;
    return client.clientId === found.client.clientId ? found : "token of another app";
  };

  app.get("/api/me", async (c) => {
    const found = await enter(c);
    if (typeof found === "string") return refuse(c, found);
    const { name, subject, email } = found.person;
    const profile = { card: { number: subject, holder: name }, ...(email !== undefined && { mail: email }) };
    const fault = found.rehearsal && wharfProfileFaults[found.rehearsal];
    return fault ? fault(profile) : c.json(profile);
  });

  app.on(["GET", "POST"], "/api/boxes", async (c) => {
    const found = await enter(c);
    if (typeof found === "string") return refuse(c, found);
    const shelf = new URL(c.req.url).searchParams.getAll("shelf");
    return c.json({
      reader: found.person.name,
      shelf,
      boxes: ["Regatta programmes 1911", "Lock-keeper's diary"],
    });
  });
  return app;
}

function extended(callback: string, fields: Readonly<Record<string, string>>): string {
  const url = new URL(callback);
  for (const [name, value] of Object.entries(fields)) url.searchParams.set(name, value);
  return url.href;
}

function form(fields: Readonly<Record<string, string>>): Response {
  return new Response(new URLSearchParams(fields).toString(), {
    headers: { "content-type": "application/x-www-form-urlencoded" },
  });
}

import QuickLRU from "quick-lru";
import { freezeDeeply, parseJsonObject, verifyJws, type JsonObject } from "../jose/index.js";
import { fail, isProblem, quoted } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import {
  authenticateClient,
  clockToleranceSeconds,
  describeRefusal,
  isAudience,
  readMembers,
} from "../provider/index.js";
import { readUnavailable, sendLeg, type Answer, type Tools } from "../trace/index.js";
import { unusable, type IssuerDoor } from "./token-issuer.js";

const mostKept = 10_000;
const mostAtOnce = 100;
const coolDownSeconds = 5;
const signedType = "application/token-introspection+jwt";

/** So many different tokens fail one after another before the issuer counts as away: one alone may be made for it. */
const mostFailing = 3;
const mostFailuresKept = 100;
const sweepSeconds = 30;

interface Kept {
  /** Undefined for a token that is worth nothing. */
  readonly claims: JsonObject | undefined;
  /** By a clock that nobody sets. */
  readonly until: number;
  /** By the token's own. */
  readonly end: number;
}

/**
 * Asks an issuer what opaque tokens are worth (RFC 7662), and keeps each answer for a moment: never beyond the token's
 * own end. However many ask about one token, there is one question. An issuer that asks for it, or fails at several tokens in
 * turn, is left alone for a while, and every token that is not kept is refused; where it fails at one, that one is.
 */
export class Introspector {
  readonly #tools: Tools;
  readonly #door: IssuerDoor;
  /** By the token's hash, as all here: whoever sends long ones takes no more room than others. */
  readonly #kept = new QuickLRU<string, Kept>({ maxSize: mostKept });
  readonly #asking = new Map<string, Promise<JsonObject | undefined>>();
  /** What the issuer failed at since it last answered. */
  readonly #failing = new Map<string, { readonly error: unknown; readonly at: number }>();
  #failed: { readonly error: unknown; readonly at: number } | undefined;
  #sweptAt = -Infinity;

  constructor(tools: Tools, door: IssuerDoor) {
    this.#tools = tools;
    this.#door = door;
  }

  /**
   * What the issuer says of a token; the same object for as long as it counts.
   *
   * @throws guard.token-inactive, guard.introspection-refused, guard.introspection-unreadable, guard.issuer-unusable, guard.too-busy
   */
  async claimsOf(token: string): Promise<JsonObject> {
    const { crypto } = this.#tools.platform;
    const claims = await this.#ask(await crypto.digestText("SHA-256", token), token);
    return claims ?? fail("guard.token-inactive", { received: "`active: false`" });
  }

  async #ask(name: string, token: string): Promise<JsonObject | undefined> {
    const { platform } = this.#tools;
    const kept = this.#kept.get(name);
    if (kept && platform.monotonic() < kept.until && platform.now() < kept.end) return kept.claims;
    const asking = this.#asking.get(name);
    if (asking) return asking;
    this.#requireThere(name);
    if (this.#asking.size >= mostAtOnce)
      fail("guard.too-busy", {
        received: `${mostAtOnce} questions that are not answered yet`,
        retryAfterSeconds: 1,
      });
    const begun = this.#send(name, token).finally(() => this.#asking.delete(name));
    this.#asking.set(name, begun);
    return begun;
  }

  /** After the pause one question is sent, which tells whether it is over. */
  #requireThere(name: string): void {
    const now = this.#tools.platform.monotonic();
    const isRecent = (failure: { readonly at: number } | undefined) =>
      failure !== undefined && now - failure.at < coolDownSeconds;
    const own = this.#failing.get(name);
    if (own && isRecent(own)) throw own.error;
    if (!this.#failed || !(this.#failing.size >= mostFailing || isBusy(this.#failed.error))) return;
    if (isRecent(this.#failed) || this.#asking.size > 0) throw this.#failed.error;
  }

  async #send(name: string, token: string): Promise<JsonObject | undefined> {
    const askedAt = this.#tools.platform.monotonic();
    try {
      const claims = await this.#question(token);
      this.#failing.clear();
      this.#failed = undefined;
      this.#keep(name, claims, askedAt);
      return claims;
    } catch (error) {
      if (isProblem(error, "guard.issuer-unusable")) {
        this.#failed = { error, at: this.#tools.platform.monotonic() };
        this.#failing.delete(name);
        this.#failing.set(name, this.#failed);
        const [first] = this.#failing.keys();
        if (first !== undefined && this.#failing.size > mostFailuresKept) this.#failing.delete(first);
      }
      throw error;
    }
  }

  #keep(name: string, claims: JsonObject | undefined, askedAt: number): void {
    const { keepSeconds = 0 } = this.#door.settings.introspection ?? {};
    if (keepSeconds === 0) return;
    const now = this.#tools.platform.monotonic();
    if (now - this.#sweptAt >= sweepSeconds) {
      this.#sweptAt = now;
      for (const [each, { until }] of [...this.#kept]) if (until <= now) this.#kept.delete(each);
    }
    // RFC 7662 section 4: never beyond `exp`.
    const end = typeof claims?.["exp"] === "number" ? claims["exp"] : Infinity;
    this.#kept.set(name, { claims, until: askedAt + keepSeconds, end });
  }

  async #question(token: string): Promise<JsonObject | undefined> {
    const { settings } = this.#door;
    const { introspectionEndpoint: url = "" } = await this.#door.open();
    const client = await this.#door.client();
    const proof = await authenticateClient(client);
    const isSigned = settings.introspection?.signed === true;
    let answer: Answer;
    try {
      answer = await sendLeg(this.#tools, {
        station: "guard",
        leg: "introspection request",
        url,
        headers: { ...proof.headers, ...(isSigned && { accept: signedType }) },
        form: new URLSearchParams({ token, token_type_hint: "access_token", ...proof.form }),
        timeoutSeconds: settings.timeoutSeconds,
      });
    } catch (error) {
      throw isProblem(error) ? unusable(settings.issuer, error) : error;
    }
    const unavailable = await readUnavailable(answer, this.#tools.platform.now());
    if (unavailable) {
      const { retryAfterSeconds } = unavailable;
      fail("guard.issuer-unusable", {
        received: `${settings.issuer}: introspection request: ${unavailable.received}`,
        because: [429, 503].includes(answer.status) ? "busy" : undefined,
        ...(retryAfterSeconds !== undefined && { retryAfterSeconds }),
      });
    }
    if (answer.status !== 200) {
      const { introspectionBecause } = await loadPart(import("../provider/why-refused.js"));
      const body = readMembers(answer, "error answer");
      fail("guard.introspection-refused", {
        received: `${await describeRefusal(answer, body)}; the client ${quoted(client.clientId)} proved itself by ${client.clientAuthentication}`,
        because: introspectionBecause(client, answer, body),
      });
    }
    const said = isSigned ? await this.#openSigned(answer, client.clientId) : readPlain(answer);
    if (typeof said["active"] !== "boolean")
      fail("guard.introspection-unreadable", { received: `\`active\` ${quoted(said["active"], 40)}` });
    return said["active"] ? freezeDeeply({ ...said }) : undefined;
  }

  /** RFC 9701 section 5: signed by the issuer, for this API, of its own type, with the answer in a claim of its own. */
  async #openSigned({ headers, text }: Answer, clientId: string): Promise<JsonObject> {
    const { settings } = this.#door;
    const { keys } = await this.#door.open();
    const type = (headers.get("content-type") ?? "").split(";")[0]?.trim().toLowerCase();
    const refuse = (received: string): never => fail("guard.introspection-unreadable", { received });
    if (type !== signedType)
      return refuse(`an answer of type ${quoted(type, 60)}, and signed ones are asked for`);
    if (!keys) return refuse("a signed answer of an issuer that publishes no keys");
    try {
      const { header, payload } = await verifyJws(
        this.#tools,
        text.trim(),
        settings.algorithms,
        (head, algorithm) => keys.find(head, algorithm),
      );
      const { iss, aud, iat, token_introspection: said } = payload;
      const age = typeof iat === "number" ? this.#tools.platform.now() - iat : Number.NaN;
      if (header.typ?.toLowerCase() !== "token-introspection+jwt")
        return refuse(`typ ${quoted(header.typ, 60)}`);
      if (iss !== settings.issuer) return refuse(`iss ${quoted(iss)}`);
      if (!isAudience(aud, clientId)) return refuse(`aud ${quoted(aud)}`);
      if (!(Math.abs(age) <= clockToleranceSeconds)) return refuse(`iat ${quoted(iat)}`);
      if (typeof said !== "object" || said === null || Array.isArray(said))
        return refuse("no `token_introspection`");
      return said as JsonObject;
    } catch (error) {
      if (!isProblem(error) || error.problem.station === "guard") throw error;
      return fail("guard.introspection-unreadable", {
        received: `a signed answer that does not hold: ${error.problem.received ?? error.problem.title}`,
        cause: error,
      });
    }
  }
}

/** Whether the issuer itself asks to be left alone. */
const isBusy = (error: unknown) =>
  isProblem(error, "guard.issuer-unusable") && error.problem.because === "busy";

function readPlain({ text, headers }: Answer): JsonObject {
  try {
    return parseJsonObject(text, "introspection answer");
  } catch (error) {
    if (!isProblem(error)) throw error;
    return fail("guard.introspection-unreadable", {
      received: `${error.problem.received ?? ""}, of type ${quoted(headers.get("content-type") ?? "none", 60)}`,
      cause: error,
    });
  }
}

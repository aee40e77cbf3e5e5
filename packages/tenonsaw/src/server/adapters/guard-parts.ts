import type { ServerResponse } from "node:http";
import { isRefusal, type Caller, type Guard, type IncomingCall, type NeedsFor } from "../../guard/index.js";
import { limits } from "../../platform/index.js";
import { createTools, readForm } from "../../trace/index.js";
import { certificateOf } from "./peer-certificate.js";
import { toRequest, writeResponse, type Incoming } from "./bridge.js";
import { requireGuard } from "./served.js";

/** A guard as node:http, and every framework on top of it, can use it. */
export interface NodeGuard {
  /**
   * Answers what is the guard's own (the API's metadata, preflights of pages, the list of refusals); false for everything
   * else, whose answer has got the headers by which pages may read it.
   */
  answer(incoming: Incoming, outgoing: ServerResponse): Promise<boolean>;
  /** Lets a call in; undefined where the refusal has been answered instead. */
  admit<Call extends Incoming>(
    incoming: Call,
    outgoing: ServerResponse,
    needs: NeedsFor<Call>,
  ): Promise<Caller | undefined>;
}

/** A guard for node:http: `const caller = await guarded.admit(incoming, outgoing, { scope: "tides.read" })`. */
export function guardForNode(guard: Pick<Guard, "parts">): NodeGuard {
  const parts = requireGuard(guard);
  return {
    async answer(incoming, outgoing) {
      const call = new NodeCall(incoming, outgoing);
      const answer = await parts.handle(call);
      if (answer) {
        await writeResponse(outgoing, incoming.method === "HEAD" ? new Response(null, answer) : answer);
        return true;
      }
      for (const [name, value] of Object.entries(parts.headersFor(call))) {
        if (name === "vary") outgoing.appendHeader(name, value);
        else outgoing.setHeader(name, value);
      }
      return false;
    },
    async admit(incoming, outgoing, needs) {
      try {
        const admitting = parts.admit(new NodeCall(incoming, outgoing), parts.needsOf(needs)(incoming));
        return admitting instanceof Promise ? await admitting : admitting;
      } catch (error) {
        if (!isRefusal(error)) throw error;
        outgoing.statusCode = error.status;
        for (const [name, value] of error.headers) {
          // Each challenge by itself; how answers vary has been said before, perhaps with more.
          if (name === "www-authenticate") outgoing.appendHeader(name, value);
          else if (name !== "vary" || !outgoing.hasHeader(name)) outgoing.setHeader(name, value);
        }
        outgoing.end(incoming.method === "HEAD" ? undefined : error.body);
        return undefined;
      }
    },
  };
}

const tools = createTools();

/** A call as node:http has it; made for every call, and nothing of it computed before it is asked for. */
class NodeCall implements IncomingCall {
  readonly #incoming: Incoming;
  readonly #outgoing: ServerResponse;

  constructor(incoming: Incoming, outgoing: ServerResponse) {
    this.#incoming = incoming;
    this.#outgoing = outgoing;
  }

  get source(): object {
    return this.#incoming;
  }

  get method(): string {
    return this.#incoming.method ?? "GET";
  }

  get url(): string {
    return this.#incoming.originalUrl ?? this.#incoming.url ?? "/";
  }

  header(name: string): string | undefined {
    return name === "authorization" ? allOf(this.#incoming, name) : headerOf(this.#incoming, name);
  }

  certificate(): Uint8Array | undefined {
    return certificateOf(this.#incoming.socket);
  }

  async form(): Promise<URLSearchParams> {
    const request = toRequest(this.#incoming, this.#outgoing, { takeBody: true });
    const copy = request.body && this.#incoming.body === undefined ? request.clone() : undefined;
    const form = await readForm(tools, request, limits.callForm);
    // As a body parser of Express leaves it: whoever comes after finds the form there, and reads nothing.
    if (this.#incoming.body === undefined) Object.assign(this.#incoming, { body: parsed(form), _body: true });
    if (copy) formTexts.set(this.#incoming, Buffer.from(await copy.arrayBuffer()));
    return form;
  }
}

/** A name that comes several times has a list of what it came with. */
function parsed(form: URLSearchParams): Readonly<Record<string, string | readonly string[]>> {
  const names = [...new Set(form.keys())];
  return Object.fromEntries(
    names.map((name) => {
      const [only = "", ...more] = form.getAll(name);
      return [name, more.length === 0 ? only : [only, ...more]];
    }),
  );
}

const formTexts = new WeakMap<object, Buffer>();

/** A form that a guard has read, as it came; undefined where it has read none. */
export function formTextOf(incoming: object): Buffer | undefined {
  return formTexts.get(incoming);
}

function headerOf({ headers }: Incoming, name: string): string | undefined {
  const value = headers[name];
  return Array.isArray(value) ? value.join(", ") : value;
}

/**
 * Node keeps the first of several Authorization headers and drops the others without a word: all of them count here. What
 * somebody before the guard has put in the place of one counts instead of it.
 */
function allOf({ headers, rawHeaders }: Incoming, name: string): string | undefined {
  const value = headers[name];
  if (value === undefined) return undefined;
  const found: string[] = [];
  for (let index = 0; index < rawHeaders.length; index += 2) {
    const each = rawHeaders[index] ?? "";
    if (each.length === name.length && each.toLowerCase() === name) found.push(rawHeaders[index + 1] ?? "");
  }
  return found.length > 1 ? found.join(", ") : String(value);
}

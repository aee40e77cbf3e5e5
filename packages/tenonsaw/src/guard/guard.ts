import type { Caller } from "./caller.js";
import type { DownstreamToken } from "./exchange.js";
import type { IncomingCall } from "./incoming.js";
import type { CallNeeds } from "./needs.js";

/** What a call takes, or a function that says it for each: by the operation of a GraphQL-like route, say. */
export type NeedsFor<Call> = CallNeeds | ((call: Call) => CallNeeds | Promise<CallNeeds>);

/** Stands before an API and lets callers in, or says why not. */
export interface Guard {
  /**
   * Lets a call in, and says who calls; or throws the refusal, whose `response()` is the answer to send.
   *
   * @throws Refusal
   */
  admit(request: Request, needs?: CallNeeds): Promise<Caller>;
  /** A handler behind the guard: it is called for those who are let in, and its answers may be read by `pageOrigins`. */
  protect(
    handler: (request: Request, caller: Caller) => Response | Promise<Response>,
    needs?: NeedsFor<Request>,
  ): (request: Request) => Promise<Response>;
  /**
   * Answers what is the guard's own: the API's metadata (RFC 9728), preflights of pages (CORS), and in development the list
   * of refusals; undefined for everything else.
   */
  handle(request: Request): Promise<Response | undefined>;
  /** Headers of every answer to a call, so that the pages that may can read it (CORS). */
  headersFor(request: Request): Readonly<Record<string, string>>;
  /**
   * A token for another API, for a caller that was let in by an access token (RFC 8693): kept, and asked for once for all.
   *
   * @throws guard.exchange-unknown, guard.issuer-unusable, grant.*, platform.*
   */
  exchange(caller: Caller, api: string): Promise<DownstreamToken>;
  /** The same for adapters: a call as they have it. */
  readonly parts: GuardParts;
}

/** What adapters for frameworks are made of. */
export interface GuardParts {
  /** @throws Refusal */
  admit(call: IncomingCall, needs?: CallNeeds): Promise<Caller>;
  headersFor(call: Pick<IncomingCall, "header">): Readonly<Record<string, string>>;
  handle(call: IncomingCall): Promise<Response | undefined>;
}

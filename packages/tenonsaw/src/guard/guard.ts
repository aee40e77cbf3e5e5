import type { Caller } from "./caller.js";
import type { DownstreamToken } from "./exchange.js";
import type { IncomingCall } from "./incoming.js";
import type { AnyCaller, AskedNeeds, CallNeeds, NeedsFor } from "./needs.js";

/** Stands before an API and lets callers in, or says why not. */
export interface Guard {
  /**
   * Lets a call in, and says who calls; or throws the refusal, whose `response()` is the answer to send.
   *
   * @throws Refusal, provider.settings-refused for needs that are missing, empty or not a plain object
   */
  admit(request: Request, needs: CallNeeds | AnyCaller): Promise<Caller>;
  /** A handler behind the guard: it is called for those who are let in, and its answers may be read by `pageOrigins`. */
  protect(
    handler: (request: Request, caller: Caller) => Response | Promise<Response>,
    needs: NeedsFor<Request>,
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
  /**
   * At once for a token that was read before, and for most others: nothing has to be waited for.
   *
   * @throws Refusal
   */
  admit(call: IncomingCall, needs: AskedNeeds | AnyCaller): Caller | Promise<Caller>;
  /**
   * What each call of a route takes, by what the route says.
   *
   * @throws provider.settings-refused at once, or with each call where a function says it
   */
  needsOf<Call>(needs: NeedsFor<Call>): (call: Call) => AskedNeeds;
  headersFor(call: Pick<IncomingCall, "header">): Readonly<Record<string, string>>;
  handle(call: IncomingCall): Promise<Response | undefined>;
}

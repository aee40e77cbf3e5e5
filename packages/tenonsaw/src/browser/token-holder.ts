import type { Attempt, SignInRequest } from "../attempt/index.js";
import { fetchWithGrant, requireScope, resolveAtOrigin } from "../connection/index.js";
import type { Grant } from "../grant/index.js";
import type { Identity } from "../identity/index.js";
import type { Platform } from "../platform/index.js";
import { fail, isProblem, ProblemError, quoted, type Problem } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import type { Provider, ProviderSettings } from "../provider/index.js";
import { createTools } from "../trace/index.js";
import type { Now } from "./follow-session.js";
import { createPublished } from "./published.js";
import { requireNoSecret, requireSettings } from "./require-settings.js";
import type { SealedBox } from "./sealing.js";

/** An API that the page may call: the one origin that its tokens may go to. */
export interface HeldApi {
  readonly origin: string;
}

/** A page that is itself the client of a provider. */
export interface PageClientSettings {
  /** The provider. There is no secret: a page keeps none. Tokens are bound to a key (RFC 9449) where the provider can. */
  readonly provider: ProviderSettings;
  /** The APIs by name. */
  readonly apis?: Readonly<Record<string, HeldApi>>;
  /** Where the provider sends back: a page of this origin that calls openPageSignIn. Default: `/` of this origin. */
  readonly redirectUri?: string;
  /** Where sign-out ends. Default: the same. */
  readonly signedOutUri?: string;
}

/** What a trip begins with. */
export interface TripWish {
  /** Where the trip happens, and so who is told how it ended. */
  readonly in: string;
  readonly returnTo: string;
  readonly request: Omit<SignInRequest, "redirectUri">;
}

/** How a trip ended, and where it leads. */
export interface Trip {
  readonly kind: "granted" | "declined" | "failed";
  readonly returnTo: string;
  /** Nobody was asked: that it did not work says no more than that somebody has to be. */
  readonly isSilent: boolean;
  readonly problem?: Problem;
}

interface KeptAttempt extends Omit<TripWish, "request"> {
  readonly attempt: Attempt;
  readonly isSilent: boolean;
  /** Where nobody is asked: the subject who was here before, and nobody else. */
  readonly expected?: string;
}

interface Held {
  readonly grant: Grant;
  readonly identity: Pick<Identity, "issuer" | "subject" | "profile">;
}

export type Change = { readonly isChanged: true } | { readonly isOut: true };

/** What it is made of. */
export interface HolderParts {
  readonly platform: Platform;
  readonly kept: SealedBox;
  readonly origin: string;
  /** Does what it is given in one tab at a time. */
  readonly lock: <Result>(work: () => Promise<Result>) => Promise<Result>;
  /** Is told when nobody is signed in any more, or somebody is; and when somebody has signed out, which is for every tab. */
  readonly onChange: (change: Change) => void;
}

/** Keeps the tokens of a page, and makes its calls with them. */
export interface TokenHolder {
  readonly redirectUri: string;
  /** Whether somebody is signed in; a token that is over is renewed first, so that it is true. */
  now(): Promise<{ readonly now: Now; readonly wasSomebody: boolean }>;
  begin(wish: TripWish): Promise<string>;
  /** Where a trip happens that this address ends; undefined where it ends none that is known. */
  whereOf(url: string): Promise<string | undefined>;
  finish(url: string): Promise<Trip>;
  /** @returns where the provider's own sign-out is, if it has one */
  signOut(): Promise<string | undefined>;
  /** Forgets what this worker alone knows: somebody has signed out in another tab. */
  readonly drop: () => void;
  /**
   * @param madeFor the subject whom the page was drawn for
   * @throws session.person-changed where somebody else is signed in by now
   */
  fetch(api: string, path: string, init: RequestInit, madeFor?: string): Promise<Response>;
}

/** A token that is over within so many seconds is over. */
const marginSeconds = 10;
/** For an API that has refused two tokens, none is renewed for so long. */
const unwillingSeconds = 60;

/**
 * What the worker does, without the worker.
 *
 * @throws page.settings-refused, page.secret-refused, page.client-credentials-refused
 */
export function createTokenHolder(settings: PageClientSettings, parts: HolderParts): TokenHolder {
  requireSettings(settings, parts.origin);
  requireNoSecret(settings);
  const { kept, lock, onChange, origin } = parts;
  const { box } = kept;
  const explained: Platform["fetch"] = (url, init) =>
    parts.platform.fetch(url, init).catch(async (error: unknown) => {
      if (!(error instanceof TypeError)) throw error;
      const why = await import("./why-silent.js").catch(() => undefined);
      // Where nothing can be loaded any more, what has failed counts all the same.
      if (!why) throw error;
      return why.whySilent(parts, url, init, error);
    });
  const published = createPublished({ ...parts, platform: { ...parts.platform, fetch: explained } });
  const platform: Platform = { ...parts.platform, fetch: (url, init) => published.fetch(url, init) };
  /** Here all is over or goes on; that it is not at the provider is for the console. */
  const unfinished = (error: unknown): undefined => {
    platform.print(`tenonsaw: tokens were not taken back: ${(error as Error).message}`);
  };
  const { redirectUri = `${origin}/`, signedOutUri = redirectUri, apis = {} } = settings;
  const ask = { provider: settings.provider.issuer };
  const nobodys = { received: "a page of nobody's", because: "page", ask } as const;
  let opening: Promise<Provider> | undefined;
  const tools = createTools({ platform, nonces: new Map() });
  const line = () => loadPart(import("./page-line.js"));
  const open = () => {
    opening ??= openNow();
    opening.catch(() => (opening = undefined));
    return opening;
  };
  const openNow = async () =>
    bindWherePossible(await (await line()).settleProvider(tools, settings.provider));
  const bindWherePossible = (provider: Provider): Provider => {
    const algorithms = provider.metadata.dpop_signing_alg_values_supported ?? [];
    const isLeftOpen = settings.provider.dpopBoundAccessTokens === undefined;
    return isLeftOpen && algorithms.includes("ES256") ? { ...provider, bindsTokens: true } : provider;
  };

  /** What nobody could use elsewhere is kept; what anybody could is only remembered. */
  let remembered: Held | undefined;
  const load = async () => ((await kept.get("held")) as Held | undefined) ?? remembered;
  /** What each server last asked for in any tab, so that a proof need not be refused first. */
  const learn = async () => {
    for (const [at, nonce] of ((await kept.get("nonces")) as [string, string][] | undefined) ?? [])
      tools.nonces?.set(at, nonce);
  };
  let learning: Promise<void> | undefined;
  /** APIs that took a new token no more than the one before it, and until when no other is fetched for them. */
  const unwilling = new Map<string, number>();
  const keep = async (held: Held) => {
    if (held.grant.dpopKey && box.isKept) {
      remembered = undefined;
      await kept.put("held", held);
    } else remembered = held;
    await note(held);
  };
  const note = async (held: Held) => {
    await box.put("was", held.grant.scope);
    await box.put("who", held.identity.subject);
    await published.keep();
    await kept.put("nonces", [...(tools.nonces ?? [])]);
  };
  const forget = async () => {
    remembered = undefined;
    await box.remove("held");
    onChange({ isChanged: true });
  };

  const isGood = (held: Held, stale?: string) => {
    const { accessToken, expiresAt = Infinity } = held.grant;
    return accessToken !== stale && expiresAt - marginSeconds > platform.now();
  };
  /** The same for all who ask in this tab; in others, whoever holds the lock asks for all. */
  let renewing: Promise<Held> | undefined;
  const fresh = async (stale?: string): Promise<Held> => {
    const held = await load();
    if (!held) return fail("connection.none", nobodys);
    if (isGood(held, stale)) return held;
    renewing ??= lock(async () => {
      const now = await load();
      if (!now) return fail("connection.none", nobodys);
      return isGood(now, stale) ? now : renew(now);
    }).finally(() => (renewing = undefined));
    return renewing;
  };
  const renew = async (held: Held): Promise<Held> => {
    const { grant, identity } = held;
    if (grant.refreshToken === undefined)
      return fail("connection.ended", {
        received: "an access token that is over, and no refresh token",
        ask,
        because: "not-renewable",
      });
    await learn();
    const [provider, { renewTokens, revokeGrant }] = await Promise.all([open(), line()]);
    const renewal = await renewTokens(provider, grant, identity.subject);
    if ("refusal" in renewal) {
      const { problem } = renewal.refusal;
      // Unless somebody else has signed in meanwhile.
      if ((await load()) === held) await forget();
      return fail("connection.ended", {
        received: problem.received ?? problem.code,
        ask,
        cause: renewal.refusal,
      });
    }
    const next = { grant: renewal.grant, identity };
    // Who has signed out, or somebody else in, while the answer was on its way, is not overtaken by it.
    const isHere = remembered === held;
    if (isHere) remembered = next;
    if (isHere || (await kept.renew("held", held, next))) {
      await note(next);
      return next;
    }
    await revokeGrant(provider, renewal.grant).catch(unfinished);
    return fail("connection.none", {
      ...nobodys,
      received: "a page whose person has signed out meanwhile",
    });
  };

  const attemptAt = async (url: string) => {
    const { search, hash } = new URL(url);
    const state =
      new URLSearchParams(search).get("state") ?? new URLSearchParams(hash.slice(1)).get("state") ?? "";
    const name = `attempt ${state}`;
    return { name, found: (await kept.get(name)) as KeptAttempt | undefined };
  };

  return {
    redirectUri,
    async now() {
      const held = await load();
      const wasSomebody = typeof (await box.get("was")) === "string";
      const settled =
        held && !isGood(held)
          ? await fresh().catch((error: unknown) => (isOver(error) ? undefined : held))
          : held;
      return { now: settled ? somebody(settled) : { kind: "nobody" }, wasSomebody };
    },
    async begin({ request, ...wish }) {
      if (!box.isKept && wish.in === "this window")
        fail("page.storage-unavailable", { received: "an IndexedDB that cannot be opened" });
      const provider = await open();
      // More than before, and nobody asked at all: what was granted is asked for with it, so that it is not lost.
      const isFurther = request.scope !== undefined || request.prompt === "none";
      const before = isFurther ? ((await load())?.grant.scope ?? (await box.get("was"))) : undefined;
      const scope = [before, provider.scope, request.scope].join(" ").split(" ").filter(Boolean);
      const { beginSignIn } = await line();
      const isSilent = request.prompt === "none";
      const current = isSilent ? await load() : undefined;
      const expected = isSilent ? (current?.identity.subject ?? (await box.get("who"))) : undefined;
      const idTokenHint = current?.grant.idToken;
      const { url, attempt } = await beginSignIn(provider, {
        ...request,
        // OpenID Connect Core 1.0 section 3.1.2.1: whom an answer without a question is to be about.
        ...(idTokenHint !== undefined && { idTokenHint }),
        redirectUri,
        scope: [...new Set(scope)].join(" "),
      });
      await sweep(parts);
      await kept.put(`attempt ${attempt.state}`, {
        ...wish,
        attempt,
        isSilent,
        ...(typeof expected === "string" && { expected }),
      } satisfies KeptAttempt);
      await box.put(`until ${attempt.state}`, attempt.expiresAt);
      return url;
    },
    whereOf: async (url) => (await attemptAt(url)).found?.in,
    async finish(url) {
      const { name, found } = await attemptAt(url);
      const before = await box.replace(name, "used");
      if (before === "used" || !found) {
        const held = await load();
        // A second look at an answer that has led somewhere.
        if (held && before === "used") return { kind: "granted", returnTo: "/", isSilent: true };
        if (before === undefined) await box.remove(name);
        return before === "used"
          ? fail("response.attempt-used", { received: "the same answer again" })
          : fail("response.state-altered", {
              received: "a state that fits no sign-in of this browser",
              because: "cleared",
            });
      }
      const { attempt, returnTo, isSilent } = found;
      if (attempt.expiresAt <= platform.now())
        fail("response.attempt-too-old", {
          received: `${Math.round(platform.now() - attempt.beganAt)} s since it began`,
        });
      const [provider, { finishSignIn, revokeGrant }] = await Promise.all([open(), line()]);
      const outcome = await finishSignIn(provider, attempt, url, (unused) => {
        // Some providers would end with these those that somebody has here already.
        load()
          .then((held) => (held ? undefined : revokeGrant(provider, unused)))
          .catch(unfinished);
      });
      if (outcome.kind === "granted") {
        const { issuer, subject, profile } = outcome.identity;
        const { expected = subject } = found;
        if (subject !== expected) {
          // Nobody has chosen to be somebody else: that takes a click.
          await revokeGrant(provider, outcome.grant).catch(unfinished);
          if (found.in === "this window") await box.remove("was");
          const { problem } = new ProblemError("session.person-changed", {
            received: "another person's sign-in at the provider",
            expected: "the person who was signed in on this page before",
          });
          return { kind: "failed", returnTo, isSilent, problem };
        }
        await keep({ grant: outcome.grant, identity: { issuer, subject, profile } });
        onChange({ isChanged: true });
        return { kind: "granted", returnTo, isSilent };
      }
      // Nobody is signed in there any more, or has to agree: what a frame says of it may come from its having no cookies.
      if (isSilent && found.in === "this window") await box.remove("was");
      const problem = outcome.kind === "failed" ? { problem: outcome.problem } : {};
      return { kind: outcome.kind, returnTo, isSilent, ...problem };
    },
    async signOut() {
      const held = await load();
      remembered = undefined;
      await box.clear();
      // Here it is over, whatever becomes of it there.
      onChange({ isOut: true });
      if (!held) return undefined;
      const provider = await open().catch(unfinished);
      if (!provider) return undefined;
      const { revokeGrant } = await line();
      await revokeGrant(provider, held.grant).catch(unfinished);
      const endpoint = provider.metadata.end_session_endpoint;
      if (endpoint === undefined) return undefined;
      // RP-Initiated Logout 1.0 section 2.
      const next = new URL(endpoint);
      if (held.grant.idToken !== undefined) next.searchParams.set("id_token_hint", held.grant.idToken);
      next.searchParams.set("client_id", provider.clientId);
      next.searchParams.set("post_logout_redirect_uri", signedOutUri);
      return next.href;
    },
    drop() {
      remembered = undefined;
    },
    async fetch(api, path, init, madeFor) {
      const url = addressOf(apis, api, path);
      await (learning ??= learn());
      const freshFor = async (stale?: string) => {
        const held = await fresh(stale);
        if (madeFor !== undefined && held.identity.subject !== madeFor)
          fail("session.person-changed", { received: "a page that was drawn for somebody else" });
        return held;
      };
      const held = await freshFor();
      const call = (by: Held) => fetchWithGrant({ tools }, by.grant, url, init);
      const response = await call(held);
      if (response.type === "opaqueredirect")
        fail("connection.api-failed", {
          received: `a redirect of ${url}: a page is not told where it leads`,
        });
      await requireScope(ask, held.grant.scope, response);
      if (response.status !== 401) unwilling.delete(api);
      const isPointless = (unwilling.get(api) ?? -Infinity) > platform.monotonic();
      if (response.status !== 401 || held.grant.refreshToken === undefined || isPointless) return response;
      const renewed = await freshFor(held.grant.accessToken);
      await response.body?.cancel();
      const answer = await call(renewed);
      if (answer.status === 401) unwilling.set(api, platform.monotonic() + unwillingSeconds);
      return answer;
    },
  };
}

function somebody({ identity: { subject, profile } }: Held): Now {
  const { name, email, picture } = profile;
  return {
    kind: "somebody",
    person: {
      id: subject,
      ...(name !== undefined && { name }),
      ...(email !== undefined && { email }),
      ...(picture !== undefined && { picture }),
    },
  };
}

const isOver = (error: unknown) => isProblem(error, "connection.ended", "connection.none");

/** Attempts that are over, and what is left of those that were used. */
async function sweep({ kept: { box }, platform }: HolderParts): Promise<void> {
  for (const [name, until] of await box.all("until ")) {
    if (typeof until === "number" && until > platform.now()) continue;
    await box.remove(name.replace("until ", "attempt "));
    await box.remove(name);
  }
}

/** @throws connection.api-unknown, connection.other-origin */
function addressOf(apis: Readonly<Record<string, HeldApi>>, api: string, path: string): string {
  const declared = Object.hasOwn(apis, api) ? apis[api] : undefined;
  if (declared) return resolveAtOrigin(declared.origin, path);
  return fail("connection.api-unknown", {
    received: quoted(api),
    expected: `one of ${Object.keys(apis).join(", ") || "(none)"}`,
  });
}

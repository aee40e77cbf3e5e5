import { authorisedFetch, requireServerCall, type Api } from "../../connection/index.js";
import { fail, quoted } from "../../problem/index.js";
import { noteCall, noteApiAnswer, shapeOf, tagOf } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import { connectionSettings } from "../settings/connection-settings.js";
import type { FoundSession } from "../../session/index.js";
import { hostBase, launchKind, settingsName } from "../settings/hosts.js";
import { requirePersonId } from "../sessions/person-id.js";
import { holderFor, type Caller } from "./accounts.js";

/** Which of a person's connected accounts. */
export interface AccountChoice {
  /** The provider's own ID of the account, as `accounts()` has it. Default: the only one. */
  readonly account?: string | undefined;
}

/** What a call is made with: as for `fetch`, and for which account. */
export interface CallInit extends RequestInit, AccountChoice {}

/**
 * Calls a declared API for a person, with the connection that fits.
 *
 * @param mayFollow where the API's redirects may lead to, beside staying at the API
 */
export async function callFor(
  context: Context,
  caller: Omit<Caller, "account">,
  api: string,
  path: string,
  given: CallInit = {},
  mayFollow?: Api["mayFollow"],
): Promise<Response> {
  const declared = requireApi(context, api, caller.launchedAt);
  requireServerCall(path, given);
  return callDeclared(context, caller, { ...declared, ...(mayFollow && { mayFollow }) }, path, given);
}

async function callDeclared(
  context: Context,
  caller: Omit<Caller, "account">,
  declared: Api,
  path: string,
  { account, ...init }: CallInit,
): Promise<Response> {
  const call = async () => {
    const holder = await holderFor(context, { ...caller, account }, declared);
    return noteApiAnswer(await authorisedFetch(context, holder, declared, path, init));
  };
  const { ways } = context;
  return ways
    ? ways.run(
        `Call of ${declared.name}: ${init.method ?? "GET"} ${declared.base === undefined ? pathOf(path) : kindOf(path)}`,
        call,
      )
    : call();
}

/** @throws connection.call-unusable where it names no account, by which the only one would be taken */
export function requireChoice(choice: AccountChoice | undefined): void {
  if (choice !== undefined && tagOf(choice) !== "Object")
    fail("connection.call-unusable", { received: shapeOf(choice), because: "account" });
}

/**
 * Calls in the form of `fetch`: with an address or a request.
 *
 * @throws connection.call-unusable
 */
export function fetcherFor(
  choice: AccountChoice | undefined,
  call: (path: string, init: CallInit) => Promise<Response>,
): typeof globalThis.fetch {
  requireChoice(choice);
  const fetched: typeof globalThis.fetch = async (input, init = {}) => {
    if (!(input instanceof Request)) return call(String(input), { ...init, ...choice });
    const { url, method, headers, body, signal, redirect } = new Request(input, init);
    const streaming = body ? { body, duplex: "half" } : {};
    return call(url, { method, headers, signal, redirect, ...streaming, ...choice });
  };
  return (input, init) => noteCall(fetched(input, init));
}

/** Whose calls those of a session are. */
export function callerOf({ session }: Pick<FoundSession, "session">): Caller {
  const { id: sessionId, personId, provider, kind } = session;
  return { personId, sessionId, ...(kind === launchKind && { launchedAt: provider }) };
}

/**
 * @param launchedAt the host that the call's session was launched from: the API at a host with tenants is that tenant's
 * @throws connection.api-unknown
 */
export function requireApi({ settings }: Context, name: string, launchedAt?: string): Api {
  const { apis } = settings;
  const declared = Object.hasOwn(apis, name) ? apis[name] : undefined;
  if (declared) {
    const isThere = launchedAt !== undefined && settingsName(launchedAt) === declared.provider;
    const provider = isThere ? launchedAt : declared.provider;
    if (declared.base === undefined) return { name, ...declared, provider };
    const base = hostBase(settings, provider);
    return {
      name,
      ...declared,
      provider,
      base:
        base ??
        fail("connection.none", {
          received: `no launch from ${provider}, whose tenants have an address each`,
          because: "not-launched",
        }),
    };
  }
  return failUnknown(apis, name);
}

/** @throws connection.api-unknown */
export function failUnknown(apis: object, name: unknown, status?: number): never {
  return fail("connection.api-unknown", {
    received: typeof name === "string" ? quoted(name) : shapeOf(name),
    because: typeof name === "string" && /^\/|:\/\//.test(name) ? "address" : undefined,
    expected: `one of the APIs in the settings: ${Object.keys(apis).join(", ") || "(none)"}`,
    ...(status !== undefined && { status }),
  });
}

/** A path without its query, which may hold what is nobody else's business. */
function pathOf(path: string): string {
  const [bare = ""] = path.split(/[?#]/, 1);
  return bare.slice(0, 200);
}

/** What kind of record of a host's: whose it is stands behind it. */
function kindOf(path: string): string {
  return `/${/^\/?([A-Za-z]+)(?:[/?#]|$)/.exec(path)?.[1] ?? "…"}`;
}

/**
 * Calls a declared API for a person who is not here: with what is kept for them, or else with what their latest session at
 * the API's provider holds.
 */
export async function callForAbsent(
  context: Context,
  personId: string,
  api: string,
  path: string,
  init: CallInit = {},
): Promise<Response> {
  const { settings, store, environment } = context;
  requirePersonId(personId);
  const asked = requireApi(context, api);
  requireServerCall(path, init);
  const { provider } = asked;
  const declared = connectionSettings(settings, provider);
  const mayBeSession = init.account === undefined && (!declared || declared.alsoForSignIn);
  // What is kept goes first: it is there for this.
  const isKept = async () =>
    declared !== undefined &&
    (await store.findAllKept({ personId, provider, environment }, { most: 1 })).length > 0;
  const sessionId =
    mayBeSession && !(await isKept()) ? await latestSession(context, personId, provider) : undefined;
  if (!declared && sessionId === undefined)
    fail("connection.none", {
      received: `nobody with the ID ${quoted(personId)} at ${provider}`,
      because: context.ownPersonOf ? "own-sign-in" : "absent",
    });
  const caller = { personId, ...(sessionId !== undefined && { sessionId }) };
  return callDeclared(context, caller, asked, path, init);
}

async function latestSession(
  { store }: Context,
  personId: string,
  provider: string,
): Promise<string | undefined> {
  for (const { session } of await store.findSessions({ personId }))
    if (await store.findConnection(session.id, provider)) return session.id;
  return undefined;
}

import { isScope } from "../../grant/index.js";
import { limits, wordsIn } from "../../platform/index.js";
import { fail, quoted } from "../../problem/index.js";
import { listAccounts } from "../connections/accounts.js";
import { connectableOf } from "../connections/connectable.js";
import { dropAccount } from "../connections/drop.js";
import { personOf } from "../connections/person-of.js";
import { chooserUrl, routes, wantsJson } from "../context/addresses.js";
import { readPopUp } from "../door/address-of.js";
import type { Context } from "../context/context.js";
import { tellMisspelt } from "../door/misspelt.js";
import { readOwnForm } from "../door/own-form.js";
import { readReturnPath } from "../door/return-path.js";
import { connectPage } from "../pages/pages.js";
import { beginAttempt } from "./begin-route.js";
import { retryAt } from "./explain.js";
import { requireSamePerson } from "../sessions/whom.js";

/**
 * A page with a button that connects an account. To begin takes a POST from this app's own page: a link from elsewhere could
 * lead somebody who is signed in at the provider as a stranger, and plant that account in their list.
 *
 * @throws server.return-path-refused
 */
async function askFirst(context: Context, request: Request, name: string): Promise<Response> {
  const { settings, answers } = context;
  const { searchParams } = new URL(request.url);
  const returnTo = readReturnPath(settings.origin, searchParams.get("returnTo"), settings.pages.signedIn);
  tellMisspelt(context, request, searchParams, ["returnTo", "scope", "account", "in"]);
  if ((await personOf(context, request)) === undefined) return askToSignIn(context, request, returnTo);
  const fields: readonly (readonly [string, string | null])[] = [
    ["returnTo", returnTo],
    ["scope", searchParams.get("scope")],
    ["account", searchParams.get("account")],
    ["in", searchParams.get("in")],
  ];
  return answers.page(
    connectPage(context.wordingOf(request), context.providers.titleOf(name), returnTo, {
      action: routes(settings).connect(name),
      fields: fields.filter((field): field is readonly [string, string] => field[1] !== null),
    }),
    200,
  );
}

/**
 * A POST begins to connect an account: `returnTo`, further scopes in `scope`, an `account` that is to allow more or is to be repaired,
 * and `in=pop-up`, in the form.
 *
 * @throws session.other-origin, connection.not-connectable, attempt.parameters-refused, provider.*, platform.*, store.unavailable
 */
export async function connectRoute(context: Context, request: Request, name: string): Promise<Response> {
  const { answers } = context;
  requireConnectable(context, name);
  retryAt(request, routes(context.settings).connect(name));
  if (request.method !== "POST") return askFirst(context, request, name);
  const { form, returnTo } = await readOwnForm(context, request, ["scope", "account", "in"]);
  const personId = await personOf(context, request);
  if (personId === undefined) return askToSignIn(context, request, returnTo);
  await requireSamePerson(context, request, personId);
  const scope = await scopeFor(context, personId, name, form);
  const account = form.get("account") ?? undefined;
  if (account !== undefined && account.length > limits.subject)
    fail("attempt.parameters-refused", {
      received: `account of ${account.length} characters`,
      expected: `at most ${limits.subject} characters`,
      because: "too-long",
    });
  const ending = readPopUp(form.get("in"));
  const begun = await beginAttempt(context, request, name, returnTo, scope === "" ? {} : { scope }, {
    connectFor: personId,
    ...(account !== undefined && { account }),
    ...(ending !== undefined && { ending }),
  });
  return answers.redirect(begun.url, begun.cookies);
}

/** What connecting asks for, what is asked for beyond that, and what the account allows already, so that it keeps it. */
async function scopeFor(
  { settings, store, environment, providers }: Context,
  personId: string,
  name: string,
  form: URLSearchParams,
): Promise<string> {
  const more = form.get("scope") ?? "";
  if (more !== "" && (!isScope(more) || more.length > limits.extraScope))
    fail("attempt.parameters-refused", { received: quoted(more, 40), because: "scope" });
  const account = form.get("account") ?? undefined;
  const query = { personId, provider: name, environment };
  const known =
    account === undefined && more === ""
      ? []
      : await store.findAllKept({ ...query, ...(account !== undefined && { account }) }, { most: 2 });
  // More without saying of which account: of the one there is.
  const before = known.length === 1 ? known[0] : undefined;
  const usual = settings.connections[name]?.scope ?? (await providers.line(name)).scope;
  return [...new Set(wordsIn(`${usual} ${before?.scope ?? ""} ${more}`))].join(" ");
}

/** An ID as connections get it. */
const madeHere = /^[\w-]{22}$/;

/**
 * Ends a connection: its ID is `connection` in the form.
 *
 * @throws session.other-origin, server.return-path-refused, connection.none, store.unavailable
 */
export async function disconnectRoute(context: Context, request: Request): Promise<Response> {
  const { answers, settings } = context;
  const { form, returnTo } = await readOwnForm(context, request, ["connection"]);
  const personId = await personOf(context, request);
  if (personId === undefined) return askToSignIn(context, request, returnTo);
  await requireSamePerson(context, request, personId);
  const id = form.get("connection") ?? "";
  // Whoever presses twice, or in two tabs, finds it ended, as they wished.
  const isOver = async () => madeHere.test(id) && (await context.store.findKept(id)) === undefined;
  if (!(await dropAccount(context, personId, id)) && !(await isOver()))
    fail("connection.none", {
      received: `no connection ${quoted(id, 40)} of this person's`,
      because: "not-theirs",
    });
  return answers.redirect(settings.origin + returnTo);
}

/** What the person has connected, and what they can connect, for a page of this app. */
export async function accountsRoute(context: Context, request: Request): Promise<Response> {
  const { answers, settings } = context;
  const personId = await personOf(context, request);
  if (personId === undefined) return answers.json({ signedIn: false, accounts: [], providers: [] }, 200);
  await requireSamePerson(context, request, personId);
  return answers.json(
    {
      signedIn: true,
      accounts: await listAccounts(context, personId),
      providers: connectableOf(context),
      disconnectPath: routes(settings).disconnect,
    },
    200,
  );
}

/** @throws connection.not-connectable */
function requireConnectable({ settings: { connections } }: Context, name: string): void {
  if (Object.hasOwn(connections, name)) return;
  const names = Object.keys(connections).join(", ") || "(none)";
  fail("connection.not-connectable", { received: quoted(name), expected: `one of ${names}` });
}

/** Where the app has its own sign-in, it is the app that has to ask. */
function askToSignIn(context: Context, request: Request, returnTo: string): Response {
  if (context.ownPersonOf)
    fail("session.not-signed-in", { received: "nobody, as `personOf` says", because: "own-sign-in" });
  if (wantsJson(request)) return context.answers.json({ signIn: chooserUrl(context, returnTo) }, 401);
  return context.answers.redirect(chooserUrl(context, returnTo));
}

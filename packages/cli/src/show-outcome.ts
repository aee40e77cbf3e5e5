import pc from "picocolors";
import { problemText, type Grant, type Outcome, type Provider } from "tenonsaw";
import { confirmToken, missingScopes, readContext, resolveUser } from "tenonsaw/launch";
import { visible } from "tenonsaw/problem";
import { pickClaims, type ResolvedSignInSettings } from "tenonsaw/server";
import { describeEvent, type TraceEvent } from "tenonsaw/trace";
import { bodyOf } from "./call-api.js";
import type { CommonOptions } from "./common-options.js";
import { explainRefusal } from "./explain-refusal.js";

export type Say = (text: string) => void;
type Granted = Extract<Outcome, { readonly kind: "granted" }>;

/** What is shown, by its name, one below the other. */
function row(name: string, value: string, paint: (text: string) => string = String): string {
  return `  ${paint(name.padEnd(14))} ${value}`;
}

/** What the settings want of a provider, and what has happened on the way. */
interface Wanted {
  readonly provider: Provider;
  readonly sessionClaims: ResolvedSignInSettings["providers"][string]["sessionClaims"];
  readonly events: readonly TraceEvent[];
}

/** What came of it, without tokens; and what of it could be otherwise than the settings want it. */
export function showOutcome(outcome: Outcome, { json }: Pick<CommonOptions, "json">, wanted?: Wanted): void {
  process.exitCode = outcome.kind === "granted" ? 0 : 1;
  if (json) console.log(JSON.stringify(withoutTokens(outcome), undefined, 2));
  else {
    describeOutcome(outcome);
    if (outcome.kind === "granted" && wanted)
      for (const line of [
        ...describeLaunch(wanted.provider, outcome),
        ...describeAbsent(wanted, outcome),
        ...describeKept(wanted, outcome),
      ])
        console.log(line);
  }
}

/** A token of the app's own, without the token. */
export function showClientGrant(grant: Grant, { json }: Pick<CommonOptions, "json">): void {
  if (json) console.log(JSON.stringify(grantWithoutTokens(grant), undefined, 2));
  else {
    console.log(`\n${pc.green("The app has a token of its own.")}`);
    for (const [field, value] of describeGrant(grant)) console.log(row(field, value));
  }
}

/** In a word or two. */
export function endingOf(outcome: Outcome): string {
  if (outcome.kind === "failed") return outcome.problem.code;
  return outcome.kind === "granted" ? "signed in" : outcome.kind;
}

function describeOutcome(outcome: Outcome): void {
  if (outcome.kind === "declined")
    console.log(
      `\n${pc.yellow("Declined.")} The person said no, or the provider did not allow it: ${visible(outcome.said ?? "no more was said")}. For an app that is an answer.`,
    );
  else if (outcome.kind === "failed")
    console.log(`\n${pc.red("Not signed in.")} ${problemText(outcome.problem)}`);
  else {
    const { identity, grant, kept } = outcome;
    console.log(`\n${pc.green("Signed in.")}`);
    const rows: readonly (readonly [string, string])[] = [
      ["issuer", identity.issuer],
      ["subject", identity.subject],
      ["proof", identity.isProved ? "an ID token" : "none: the profile endpoint says so"],
      ...Object.entries(identity.profile).map(([field, value]) => [field, String(value)] as const),
      ...describeGrant(grant),
      ...Object.entries(kept).map(([field, value]) => [`callback ${field}`, value] as const),
    ];
    for (const [field, value] of rows) console.log(row(field, value));
  }
}

/** Name, e-mail address and picture that did not come: where they were looked for, and which scope was not asked for. */
function describeAbsent(
  { provider: { profile, scope }, events }: Wanted,
  { identity, grant }: Granted,
): readonly string[] {
  if (typeof profile === "function") return [];
  const asked = `${scope} ${grant.scope}`.split(" ");
  const members = membersOf(identity.claims);
  return (["name", "email", "picture"] as const)
    .filter((field) => identity.profile[field] === undefined)
    .map((field) => {
      const pointers = profile[field];
      const usual = field === "email" ? "email" : "profile";
      const odd = events.findLast(
        (event) => event.kind === "note" && event.note === `${field} is not in the profile`,
      );
      if (odd?.kind === "note")
        return row(`no ${field}`, `what the provider sends as such ${odd.detail["why"] ?? ""}`, pc.yellow);
      const why =
        pointers === undefined && asked.includes("openid") && !asked.includes(usual)
          ? `scope ${usual} was not asked for: add it to \`scope\` of the provider`
          : `nothing at ${[pointers ?? usualPointers[field]].flat().join(" or ")} of its claims (there were: ${members}): set \`profile.${field}\` to where it is, or the provider has none of this person`;
      return row(`no ${field}`, why, pc.yellow);
    });
}

const membersOf = (claims: object) => Object.keys(claims).map(visible).join(", ") || "none";

/** What a session would keep of the claims, by `sessionClaims`. */
function describeKept({ sessionClaims }: Wanted, { identity: { claims } }: Granted): readonly string[] {
  const kept = pickClaims(sessionClaims, claims);
  return Object.entries(sessionClaims).map(([name, pointers]) =>
    Object.hasOwn(kept, name)
      ? row(`claim ${name}`, visible(JSON.stringify(kept[name])))
      : row(
          `no claim ${name}`,
          `nothing at ${[pointers].flat().join(" or ")} of its claims (there were: ${membersOf(claims)}): set \`sessionClaims.${name}\` to where it is, or the provider has none of this person`,
          pc.yellow,
        ),
  );
}

/** OpenID Connect Core 1.0 section 5.1. */
const usualPointers = { name: "/name", email: "/email", picture: "/picture" };

function describeGrant(grant: Grant): readonly (readonly [string, string])[] {
  return [
    ["allows", grant.scope],
    ["expires", grant.expiresAt === undefined ? "not told" : `in ${grant.expiresAt - grant.obtainedAt} s`],
    ["refresh token", grant.refreshToken === undefined ? "none" : "yes"],
  ];
}

/** An answer of an API: how it begins, and why it refuses. */
export async function showAnswer(url: string, answer: Response, say: Say): Promise<void> {
  const { text, isWhole } = await bodyOf(answer, 2000);
  say(`\nGET ${url} → ${answer.status}\n${text}${isWhole ? "" : pc.dim(" … and so on")}`);
  const advice = explainRefusal(answer);
  if (advice !== undefined) say(`\n${pc.yellow("Why")}  ${advice}`);
}

function withoutTokens(outcome: Outcome): object {
  if (outcome.kind !== "granted") return outcome;
  return { ...outcome, grant: grantWithoutTokens(outcome.grant) };
}

function grantWithoutTokens({ scope, obtainedAt, expiresAt, refreshToken }: Grant): object {
  return { scope, obtainedAt, expiresAt, hasRefreshToken: refreshToken !== undefined };
}

/** In which context the host has opened the app, and what it did not grant. */
function describeLaunch({ host, scope }: Provider, { grant, identity }: Granted): readonly string[] {
  if (!host) return [];
  const read = readContext(host, grant.context ?? {}, grant.scope);
  const { fhirContext, own, needPatientBanner, smartStyleUrl, ...context } = read;
  const missing = missingScopes(scope, grant.scope).filter((each) => !each.startsWith("launch/"));
  const rows: readonly (readonly [string, unknown])[] = [
    ["host", host.base],
    ...Object.entries(context),
    [
      "banner",
      needPatientBanner === undefined ? "not told" : needPatientBanner ? "by this app" : "by the host",
    ],
    ["style", smartStyleUrl ?? "none"],
    ...(fhirContext.length > 0 ? [["fhirContext", JSON.stringify(fhirContext)] as const] : []),
    ...Object.entries(own),
    ["user", resolveUser(host, identity.claims) ?? "not told"],
    ...(missing.length > 0 ? [["not granted", missing.join(" ")] as const] : []),
  ];
  return rows.map(([field, value]) => row(field, visible(String(value))));
}

/** What the host says of its own token, where it can be asked. */
export async function showConfirmation(provider: Provider, grant: Grant, say: Say): Promise<void> {
  const said = await confirmToken(provider, grant);
  const { aud = "not told" } = said ?? {};
  say(row("confirmed", said ? `by the host, for ${visible(String(aud))}` : "not: no introspection there"));
}

/** One event of the trace, for a terminal. */
export function paint(event: TraceEvent): string {
  const text = describeEvent(event);
  if (event.kind === "leg") {
    return [
      pc.cyan(text),
      ...describeMembers("sent", event.sent),
      ...describeMembers("answer", event.received),
    ].join("\n");
  }
  if (event.kind === "check") return event.verdict === "passed" ? pc.dim(text) : pc.red(text);
  return text;
}

/** What a leg carried, on one line that fits the terminal; secrets are fingerprints already. */
function describeMembers(name: string, members: Readonly<Record<string, string>>): readonly string[] {
  const text = Object.entries(members)
    .map(([member, value]) => `${member}=${value}`)
    .join("  ");
  const width = (process.stdout.columns || 100) - 15;
  return text === ""
    ? []
    : [`      ${name.padEnd(7)} ${text.length > width ? `${text.slice(0, width - 1)}…` : text}`];
}

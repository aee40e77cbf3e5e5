import { fail, quoted } from "../../problem/index.js";
import type { Granted } from "../../session/index.js";
import { askApp, shapeOf, tagOf } from "../../trace/index.js";
import type { Context } from "../context/context.js";
import type { Visit, Welcome } from "../settings/settings-types.js";
import { describeId, isPersonId } from "./person-id.js";

/**
 * The one place that decides who may enter: asks the app at every sign-in.
 *
 * @throws session.person-refused, session.person-unusable
 */
export async function welcome(
  context: Context,
  name: string,
  granted: Granted,
): Promise<Exclude<Welcome, { refused: string }>> {
  const ask = context.welcome;
  if (!ask) return {};
  const { issuer, subject } = granted.identity;
  const known = await context.store.findIdentity(issuer, subject);
  const visit: Visit = {
    provider: name,
    identity: granted.identity,
    ...(known && { personId: known.personId }),
  };
  // Two tabs of one person at the same moment are one question.
  const answer = await context.leases.share(`welcome/${JSON.stringify([issuer, subject])}`, () =>
    askApp(context.tools, "welcome", () => ask(visit)),
  );
  requireWelcome(answer);
  if ("refused" in answer) fail("session.person-refused", { received: answer.refused });
  const { personId } = answer;
  if (personId !== undefined && !isUsable(personId, known?.personId)) {
    fail("session.person-unusable", {
      ...(isPersonId(personId)
        ? { received: quoted(personId) }
        : { received: describeId(personId), because: "no-id" }),
      ...(known && { expected: `${quoted(known.personId)}, whose this identity is, or no personId` }),
    });
  }
  return answer;
}

/** An answer of another kind, such as false, must not let anybody in, and says what it is. */
function requireWelcome(answer: unknown): asserts answer is Welcome {
  // An error or a response has no members of its own, and says anything but welcome.
  const members = tagOf(answer) === "Object" ? Object.entries(answer as object) : undefined;
  const isWelcome = members?.every(
    ([name, value]) =>
      name === "personId" ||
      (name === "page" && (value === undefined || isOwnPath(value))) ||
      (name === "refused" && (value === undefined || (typeof value === "string" && value !== ""))),
  );
  if (isWelcome === true) return;
  const { page: given } = (answer ?? {}) as { readonly page?: unknown };
  const page = typeof given === "string" && !isOwnPath(given) ? `, the page ${quoted(given, 60)}` : "";
  fail("server.hook-unusable", {
    received: `\`welcome\` answered ${shapeOf(answer)}${page}`,
    expected: "{}, { personId }, { page }, a path of this app, or { refused: why }, a text",
  });
}

/** One slash at its beginning, and nothing in which a browser could read a host. */
const isOwnPath = (page: unknown) =>
  typeof page === "string" && /^\/(?![/\\])[^\u0000-\u0020\\\u007f]*$/.test(page);

function isUsable(personId: unknown, known: string | undefined): boolean {
  return known === undefined ? isPersonId(personId) : personId === known;
}

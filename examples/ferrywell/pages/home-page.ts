import { dayAndTime, element } from "./element.js";
import type { Connection, Nobody, Somebody } from "./server-answers.js";

export function homePage(now: Somebody | Nobody): Node {
  return now.kind === "somebody" ? forMember(now) : forVisitor(now);
}

function forVisitor({ providers }: Nobody): Node {
  return element(
    "section",
    {},
    element("h1", {}, "Book boats and read the river"),
    element(
      "p",
      {},
      "Ferrywell is the rowing club at the landing. Members see the tides and book boat slots.",
    ),
    element(
      "div",
      { class: "card" },
      element("h2", {}, "For members"),
      element("p", { class: "soft" }, "Sign in with the account you have; Ferrywell never sees a password."),
      ...providers.map(({ title, href }) =>
        element("a", { class: "button", href: `${href}?returnTo=/` }, `Sign in with ${title}`),
      ),
    ),
  );
}

function forMember({ person, signedInAt, connection }: Somebody): Node {
  return element(
    "section",
    {},
    element("h1", {}, `Good to see you, ${person.name ?? "member"}`),
    element(
      "div",
      { class: "card" },
      element("h2", {}, "Your sign-in"),
      element(
        "dl",
        {},
        ...row("Name", person.name ?? "not told"),
        ...row("E-mail", person.email ?? "not told"),
        ...row("Signed in since", dayAndTime(signedInAt)),
        ...(connection ? row("Ferrywell may", scopes(connection)) : []),
      ),
    ),
    element("p", {}, element("a", { class: "button", href: "/tides" }, "Read the tides")),
  );
}

function row(term: string, description: Node | string): readonly Node[] {
  return [element("dt", {}, term), element("dd", {}, description)];
}

function scopes({ scope }: Connection): Node {
  return element("div", { class: "scopes" }, ...scope.map((each) => element("span", {}, each)));
}

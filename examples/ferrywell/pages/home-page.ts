import { dayAndTime, element } from "./element.js";
import type { Connection, Identity, Nobody, Somebody } from "./server-answers.js";
import { signInInWindow } from "./sign-in-window.js";

export function homePage(now: Somebody | Nobody): Node {
  return now.kind === "somebody" ? forMember(now) : forVisitor(now);
}

function forVisitor({ providers }: Nobody): Node {
  return element(
    "section",
    {},
    element("h1", {}, "Read the river"),
    element("p", {}, "Ferrywell is the rowing club at the landing. Members read the tides."),
    element(
      "div",
      { class: "card" },
      element("h2", {}, "For members"),
      element("p", { class: "soft" }, "Sign in with the account you have; Ferrywell never sees a password."),
      element(
        "div",
        { class: "choices" },
        ...providers.map(({ title, href }) =>
          element("a", { class: "button", href: `${href}?returnTo=/` }, `Sign in with ${title}`),
        ),
      ),
      windowLink(),
    ),
  );
}

/** Works without script as well: then it is a link to the same window. */
function windowLink(): Node {
  const href = "/sign-in?in=pop-up&returnTo=/";
  const link = element("a", { href, target: "ferrywell-sign-in" }, "sign in in a window of its own");
  link.addEventListener("click", (event) => {
    event.preventDefault();
    signInInWindow(href);
  });
  return element("p", { class: "soft" }, "Or stay on this page and ", link, ".");
}

function forMember(now: Somebody): Node {
  const { person, signedInAt, connection } = now;
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
    waysIn(now),
    browsers(now),

    element("p", {}, element("a", { class: "button", href: "/tides" }, "Read the tides")),
  );
}

/** The accounts that this member can sign in with: one more, or one less. */
function waysIn({ identities, providers, provider, unlinkPath }: Somebody): Node {
  const titleOf = (name: string) => providers.find((each) => each.name === name)?.title ?? name;
  const more = providers.filter(({ name }) => !identities.some((each) => each.provider === name));
  return element(
    "div",
    { class: "card" },
    element("h2", {}, "Ways to sign in"),
    element(
      "ul",
      { class: "ways" },
      ...identities.map((identity) =>
        element(
          "li",
          {},
          element("span", {}, titleOf(identity.provider)),
          element(
            "span",
            { class: "soft" },
            identity.provider === provider ? "in use now" : `last used ${dayAndTime(identity.lastSignInAt)}`,
          ),
          identities.length > 1 && identity.provider !== provider
            ? removeForm(unlinkPath, identity, titleOf(identity.provider))
            : undefined,
        ),
      ),
    ),
    ...more.map(({ title, linkPath }) =>
      element(
        "form",
        { class: "beside", method: "post", action: linkPath },
        element("input", { type: "hidden", name: "returnTo", value: "/" }),
        element("button", { class: "quiet" }, `Add ${title}`),
      ),
    ),
  );
}

/** Where this member is signed in: any of it can be ended from here. */
function browsers({ sessions, signOutPath }: Somebody): Node {
  return element(
    "div",
    { class: "card" },
    element("h2", {}, "Where you are signed in"),
    element(
      "ul",
      { class: "ways" },
      ...sessions.map(({ id, device, signedInAt, isThis }) =>
        element(
          "li",
          {},
          element("span", {}, nameOf(device)),
          element("span", { class: "soft" }, isThis ? "this browser" : `since ${dayAndTime(signedInAt)}`),
          isThis
            ? undefined
            : element(
                "form",
                { method: "post", action: "/sessions/end" },
                element("input", { type: "hidden", name: "id", value: id }),
                element("button", { class: "quiet", "aria-label": `Sign out ${nameOf(device)}` }, "Sign out"),
              ),
        ),
      ),
    ),
    sessions.length > 1
      ? element(
          "form",
          { class: "beside", method: "post", action: signOutPath },
          element("button", { class: "quiet", name: "everywhere", value: "yes" }, "Sign out everywhere"),
        )
      : undefined,
  );
}

/** The part of what a browser says of itself that a person can make something of. */
function nameOf(device = ""): string {
  const [, name = "A browser"] = /(Firefox|Edg|Chrome|Safari)\//.exec(device) ?? [];
  const [, system] = /(Windows|Mac OS X|Android|iPhone|Linux)/.exec(device) ?? [];
  return system === undefined ? name : `${name} on ${system}`;
}

function removeForm(action: string, { issuer, subject }: Identity, title: string): Node {
  const hidden = Object.entries({ issuer, subject, returnTo: "/" }).map(([name, value]) =>
    element("input", { type: "hidden", name, value }),
  );
  return element(
    "form",
    { method: "post", action },
    ...hidden,
    element("button", { class: "quiet", "aria-label": `Remove ${title}` }, "Remove"),
  );
}

function row(term: string, description: Node | string): readonly Node[] {
  return [element("dt", {}, term), element("dd", {}, description)];
}

function scopes({ scope }: Connection): Node {
  return element("div", { class: "scopes" }, ...scope.map((each) => element("span", {}, each)));
}

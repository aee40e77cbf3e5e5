import { followSession } from "tenonsaw/browser";
import { booksPage } from "./books-page.js";
import { element } from "./element.js";
import { historyPage } from "./history-page.js";
import { homePage } from "./home-page.js";
import { askWho, type Nobody, type Somebody } from "./server-answers.js";
import { slotsPage } from "./slots-page.js";
import { tidesPage } from "./tides-page.js";

const main = find("main");
const who = find("who");

// Signed out in another tab, at its end, or before the back button brought this page back: it shows nothing any more.
followSession().subscribe(({ kind }) => {
  if (kind !== "unknown") void draw();
  else for (const each of [main, who]) each.replaceChildren();
});

const titles: Readonly<Record<string, string>> = {
  "/tides": "Tides",
  "/slots": "Boat slots",
  "/books": "Books",
  "/history": "History",
  "/changed-your-mind": "You are not signed in",
};

const pages: Readonly<Record<string, () => Node>> = {
  "/tides": tidesPage,
  "/slots": slotsPage,
  "/books": booksPage,
};

async function draw(): Promise<void> {
  main.replaceChildren();
  who.replaceChildren();
  markCurrentPage();
  const now = await askWho();
  who.replaceChildren(...(now.kind === "somebody" ? signedIn(now) : []));
  const path = location.pathname;
  document.title = `${titles[path] ?? "Home"} – Ferrywell`;
  if (path === "/changed-your-mind") main.replaceChildren(changedYourMindPage(now));
  else if (path === "/") main.replaceChildren(homePage(now));
  else if (now.kind === "nobody") location.replace("/");
  else main.replaceChildren((pages[path] ?? historyPage)());
}

function signedIn({ person, signOutPath }: Somebody): readonly Node[] {
  return [
    ...(person.picture === undefined
      ? []
      : [element("img", { class: "picture", src: person.picture, alt: "" })]),
    element("span", {}, person.name ?? "Member"),
    element(
      "form",
      { method: "post", action: signOutPath },
      element("button", { class: "quiet" }, "Sign out"),
    ),
  ];
}

function changedYourMindPage(now: Somebody | Nobody): Node {
  return element(
    "section",
    {},
    element("h1", {}, "You are not signed in"),
    element("p", {}, "It was cancelled, or not allowed. Nothing was shared with Ferrywell."),
    now.kind === "nobody" ? element("a", { class: "button", href: "/" }, "Back to Ferrywell") : undefined,
  );
}

function markCurrentPage(): void {
  for (const link of document.querySelectorAll("nav a")) {
    if (link.getAttribute("href") === location.pathname) link.setAttribute("aria-current", "page");
  }
}

function find(id: string): HTMLElement {
  const found = document.getElementById(id);
  if (!found) throw new TypeError(`The page has no element #${id}`);
  return found;
}

import type { AccountView } from "tenonsaw/server";
import { dayAndTime, element } from "./element.js";
import { askAccounts, askInvoices, type Accounts, type Invoices } from "./server-answers.js";
import { signInWindowName, tellWhenDone } from "./sign-in-window.js";

/** The companies that this member has connected at Ledgerhouse, and what is in their books. */
export function booksPage(): Node {
  const page = element("section", {}, element("h1", {}, "Books"));
  void show(page);
  return page;
}

async function show(page: HTMLElement): Promise<void> {
  const found = await askAccounts();
  page.replaceChildren(
    element("h1", {}, "Books"),
    element(
      "p",
      {},
      "Companies that you connect here stay connected, whether you are signed in or not, until you disconnect them.",
    ),
    ...found.accounts.map((account) => card(account, found)),
    ...found.providers.map(({ title, connectPath }) =>
      connectForm(connectPath, found.accounts.length === 0 ? `Connect ${title}` : "Connect another company"),
    ),
  );
}

function card(account: AccountView, { disconnectPath, providers }: Accounts): Node {
  const invoices = element("div", { role: "status", class: "soft" });
  const connectPath = providers.find(({ name }) => name === account.provider)?.connectPath ?? "";
  const test = element("button", { class: "quiet", type: "button" }, "Test");
  test.addEventListener("click", () => void read(invoices, account, connectPath));
  return element(
    "div",
    { class: "card" },
    element("h2", {}, account.name ?? account.account),
    element(
      "dl",
      {},
      ...row("At", `${account.title}, ${account.account}${account.isConfirmed ? "" : " (not confirmed)"}`),
      ...row("Ferrywell may", account.allows.join(", ")),
      ...row("Connected since", dayAndTime(account.connectedAt)),
      ...row("Last used", account.lastUsedAt === undefined ? "not yet" : dayAndTime(account.lastUsedAt)),
      ...row("State", stateOf(account)),
    ),
    element(
      "div",
      { class: "choices" },
      test,
      connectForm(connectPath, "Connect again", { account: account.account }),
      account.scope.includes("books.write")
        ? undefined
        : connectForm(connectPath, "Let it write", { account: account.account, scope: "books.write" }),
      element(
        "form",
        { method: "post", action: disconnectPath },
        element("input", { type: "hidden", name: "connection", value: account.id }),
        element("input", { type: "hidden", name: "returnTo", value: "/books" }),
        element(
          "button",
          { class: "quiet", "aria-label": `Disconnect ${account.name ?? account.account}` },
          "Disconnect",
        ),
      ),
    ),
    invoices,
  );
}

function stateOf({ status, endsAt }: AccountView): string {
  if (status === "needs consent") return "needs your consent: connect it again";
  return endsAt === undefined ? "in order" : `in order, ends on ${dayAndTime(endsAt)}`;
}

/** Through the relay: this page never has the token. */
async function read(place: HTMLElement, account: AccountView, connectPath: string): Promise<void> {
  place.replaceChildren("Reading …");
  const answer = await askInvoices(account.account);
  place.replaceChildren(answer.kind === "invoices" ? table(answer) : element("p", {}, answer.title));
  if (answer.kind === "problem" && answer.ways.connect !== undefined)
    place.append(connectForm(connectPath, "Connect again", { account: account.account }));
}

function table({ invoices }: Invoices): Node {
  if (invoices.length === 0) return element("p", {}, "It works. There are no invoices.");
  return element(
    "table",
    {},
    element("caption", {}, "It works. Invoices"),
    element(
      "thead",
      {},
      element("tr", {}, ...["Number", "To", "Amount"].map((title) => element("th", { scope: "col" }, title))),
    ),
    element(
      "tbody",
      {},
      ...invoices.map(({ number, to, amount }) =>
        element("tr", {}, ...[number, to, amount].map((value) => element("td", {}, String(value)))),
      ),
    ),
  );
}

/** In a window of its own; where the browser opens none, in this one. */
function connectForm(action: string, text: string, fields: Readonly<Record<string, string>> = {}): Node {
  const inputs = Object.entries({ returnTo: "/books", in: "pop-up", ...fields }).map(([name, value]) =>
    element("input", { type: "hidden", name, value }),
  );
  const form = element(
    "form",
    { method: "post", action, target: signInWindowName },
    ...inputs,
    element("button", { class: "quiet" }, text),
  );
  form.addEventListener("submit", () => tellWhenDone(form as HTMLFormElement));
  return form;
}

function row(term: string, description: string): readonly Node[] {
  return [element("dt", {}, term), element("dd", {}, description)];
}

import { clockTime, element } from "./element.js";
import { askHistory, askTides, type History } from "./server-answers.js";

const atOnce = 40;

const told: Readonly<Record<History["events"][number]["kind"], string>> = {
  refreshed: "renewed, and kept before anybody used it",
  "taken over": "begun by a process that did not finish; taken over",
  refused: "refused, because another process had renewed it: nothing is lost",
  "needs consent": "honoured no more: sign in again to go on",
};

/** What Ferrywell holds for this member and how it is renewed, by whichever process; it follows by itself. */
export function historyPage(): Node {
  const held = element("tbody");
  const log = element("ol", { class: "log", id: "history" });
  const result = element("p", { class: "soft", role: "status" });
  const press = element("button", { type: "button" }, `Ask for the tides ${atOnce} times at once`);

  const draw = async () => {
    const history = await askHistory();
    if (!history) return;
    held.replaceChildren(...history.connections.map((each) => connectionRow(each, history.now)));
    log.replaceChildren(
      ...history.events.map(({ at, process, kind, provider }) =>
        element(
          "li",
          { class: kind === "refreshed" ? "refreshed" : "call" },
          element("span", {}, clockTime(at)),
          ` process ${process}: the token of ${provider} was ${told[kind]}`,
        ),
      ),
    );
    if (history.events.length === 0)
      log.replaceChildren(element("li", {}, "Nothing yet. A token here is good for half a minute."));
  };
  const ask = async () => {
    const answers = await Promise.all(Array.from({ length: atOnce }, askTides));
    const good = answers.filter((answer) => answer && "tides" in answer).length;
    result.textContent = `${good} of ${atOnce} were answered.`;
    await draw();
  };
  press.addEventListener("click", () => void ask());
  void draw();
  const timer = setInterval(() => {
    if (log.isConnected) void draw();
    else clearInterval(timer);
  }, 1000);

  const head = ["At", "Allows", "Token", "Renewed"].map((text) =>
    element("th", text === "Renewed" ? { class: "number" } : {}, text),
  );
  return element(
    "section",
    {},
    element("h1", {}, "What is held for you"),
    element(
      "p",
      {},
      "However many ask at once, in however many processes, a token is renewed once. Let it expire, press, and read who did it.",
    ),
    element(
      "div",
      { class: "card" },
      element("table", { class: "held" }, element("thead", {}, element("tr", {}, ...head)), held),
      element("p", {}, press),
      result,
    ),
    element("div", { class: "card" }, element("h2", {}, "History"), log),
  );
}

function connectionRow(
  { provider, status, scope, expiresAt, refreshCount, isRenewable }: History["connections"][number],
  now: number,
): Node {
  const left = expiresAt === undefined ? undefined : Math.ceil(expiresAt - now);
  const token =
    status === "needs consent"
      ? "ended: sign in again"
      : left === undefined
        ? "good until the provider says otherwise"
        : left > 0
          ? `good for ${left} s more`
          : isRenewable
            ? "expired; the next call renews it"
            : "expired";
  return element(
    "tr",
    {},
    element("td", {}, provider),
    element("td", {}, element("div", { class: "scopes" }, ...scope.map((each) => element("span", {}, each)))),
    element("td", {}, token),
    element("td", { class: "number" }, String(refreshCount)),
  );
}

import { element } from "./element.js";
import { askSlots, changeSlot, type RelayProblem, type Slots } from "./server-answers.js";

/** Boat slots of Tidebook: booked by members, taken back by the harbour master. All through the relay. */
export function slotsPage(): Node {
  const place = element("div", { class: "card" }, "Asking Tidebook…");
  const said = element("p", { role: "status", class: "soft" });
  const show = (answer: Slots | RelayProblem, words = "") => {
    said.textContent = answer.kind === "problem" ? answer.title : words;
    if (answer.kind === "slots") place.replaceChildren(table(answer, change));
  };
  const change = (id: number, method: "POST" | "DELETE") => {
    void changeSlot(id, method).then((answer) => show(answer, method === "POST" ? "Booked." : "Free again."));
  };
  void askSlots().then(show);
  return element(
    "section",
    {},
    element("h1", {}, "Boat slots"),
    element("p", {}, "Whoever signed in may book; only the harbour master may take a booking back."),
    place,
    said,
  );
}

function table({ slots }: Slots, change: (id: number, method: "POST" | "DELETE") => void): Node {
  const head = ["Time", "Boat", "State", ""].map((title) => element("th", { scope: "col" }, title));
  const rows = slots.map(({ id, at, boat, isFree }) => {
    const button = element(
      "button",
      { class: "quiet", type: "button", "aria-label": `${isFree ? "Book" : "Free"} ${at}` },
      isFree ? "Book" : "Take back",
    );
    button.addEventListener("click", () => change(id, isFree ? "POST" : "DELETE"));
    const cells = [at, boat, isFree ? "free" : "booked", button].map((each) => element("td", {}, each));
    return element("tr", {}, ...cells);
  });
  return element(
    "table",
    {},
    element("thead", {}, element("tr", {}, ...head)),
    element("tbody", {}, ...rows),
  );
}

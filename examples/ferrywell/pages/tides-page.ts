import { clockTime, element } from "./element.js";
import { askTides, type Connection, type Failure, type Tides } from "./server-answers.js";

/** Tides, the access token's remaining time, and a log of calls and silent refreshes. */
export function tidesPage(): Node {
  const place = element("p", { class: "soft" }, "Asking Tidebook…");
  const rows = element("tbody");
  const remaining = element("dd", { id: "remaining" }, "…");
  const log = element("ol", { class: "log", id: "log" });
  const again = element("button", { type: "button" }, "Read again");
  let connection: Connection | undefined;

  const write = (text: string, kind = "call") => {
    log.prepend(element("li", { class: kind }, `${clockTime(Date.now() / 1000)}  ${text}`));
  };
  const showRemaining = () => {
    if (connection) remaining.textContent = describeRemaining(connection);
  };
  const read = async () => {
    const answer = await askTides();
    if (answer === undefined) {
      location.assign("/");
      return;
    }
    if (answer.connection) {
      const refreshes =
        answer.connection.refreshCount - (connection?.refreshCount ?? answer.connection.refreshCount);
      if (refreshes > 0)
        write(
          `The access token was renewed silently (${answer.connection.refreshCount} so far)`,
          "refreshed",
        );
      connection = answer.connection;
    }
    showRemaining();
    if ("message" in answer) {
      write(describeFailure(answer));
      place.textContent = answer.message;
      if (answer.addAt !== undefined) {
        remaining.textContent = "none";
        again.replaceWith(element("a", { class: "button", href: answer.addAt }, "Add Quayside ID"));
      }
    } else {
      place.textContent = `${answer.place}, read at ${clockTime(answer.readAt)}`;
      rows.replaceChildren(...answer.tides.map(tideRow));
      write("Tidebook answered");
    }
  };
  again.addEventListener("click", () => void read());
  setInterval(showRemaining, 250);
  void read();

  const head = ["Time", "Tide", "Height"].map((text) =>
    element("th", text === "Height" ? { class: "number" } : {}, text),
  );
  const table = element("table", {}, element("thead", {}, element("tr", {}, ...head)), rows);
  const token = element("dl", {}, element("dt", {}, "Access token"), remaining);
  return element(
    "section",
    {},
    element("h1", {}, "Tides today"),
    place,
    element(
      "div",
      { class: "columns" },
      element("div", { class: "card" }, table, element("p", {}, again)),
      element("div", { class: "card" }, token, element("h2", { class: "above" }, "What happened"), log),
    ),
  );
}

function describeRemaining(connection: Connection): string {
  if (connection.status === "needs consent") return "ended; sign in again to go on";
  if (connection.expiresAt === undefined) return "good until the provider says otherwise";
  const seconds = Math.ceil(connection.expiresAt - Date.now() / 1000);
  return seconds > 0 ? `good for ${seconds} s more` : "expired; the next call renews it";
}

function describeFailure({ message }: Failure): string {
  return `Tidebook was not asked: ${message}`;
}

function tideRow({ at, kind, heightMetres }: Tides["tides"][number]): Node {
  return element(
    "tr",
    {},
    element("td", {}, clockTime(at).slice(0, 5)),
    element("td", {}, kind === "high" ? "High water" : "Low water"),
    element("td", { class: "number" }, `${heightMetres.toFixed(1)} m`),
  );
}

import { openPageSignIn, type PageClientSession } from "tenonsaw/browser";
import { problemLines, draw, tidesTable, type TidesToday } from "./draw.js";

const main = find("main");
const who = find("who");

const worker = () => new Worker(new URL("./tokens.ts", import.meta.url), { type: "module" });
try {
  const session = await openPageSignIn({ worker });
  // For tests, and for whoever is curious: there is no token in it.
  Object.assign(window, { session });
  session.subscribe(() => show(session));
  show(session);
} catch (error) {
  main.replaceChildren(draw("h1", "This page is not set up"), ...(await problemLines(error)));
}

function show(session: PageClientSession): void {
  const { now } = session;
  if (now.kind === "somebody") {
    who.replaceChildren(
      now.person.name ?? "Signed in",
      button("Sign out", () => session.signOut()),
    );
    main.replaceChildren(draw("h1", "Tides today"), draw("p", "Asking Tidebook…"));
    void showTides(session);
    return;
  }
  who.replaceChildren();
  // On the way to the provider's own sign-out.
  if (now.kind === "unknown") {
    main.replaceChildren(draw("p", "One moment…"));
    return;
  }
  const { kind, problem } = session.arrival ?? {};
  main.replaceChildren(
    draw("h1", "The river today"),
    draw("p", kind === "declined" ? "You are not signed in. Nothing was shared." : "Members read the tides."),
    button("Sign in with Quayside ID", () => session.signIn()),
    button("In a window of its own", () => session.signIn(undefined, { in: "pop-up" })),
  );
  if (problem) void problemLines({ problem }).then((lines) => main.append(...lines));
}

async function showTides(session: PageClientSession): Promise<void> {
  try {
    const answer = await session.fetch("tidebook", "/tides/today");
    const tides = (await answer.json()) as TidesToday;
    main.replaceChildren(draw("h1", `Tides at ${tides.place}`), tidesTable(tides));
  } catch (error) {
    main.replaceChildren(draw("h1", "Tidebook was not read"), ...(await problemLines(error)));
  }
}

function button(text: string, act: () => Promise<unknown>): HTMLButtonElement {
  const made = draw("button", text);
  made.type = "button";
  made.addEventListener("click", () => {
    made.disabled = true;
    act()
      .catch(async (error: unknown) => main.append(...(await problemLines(error))))
      .finally(() => (made.disabled = false));
  });
  return made;
}

function find(id: string): HTMLElement {
  const found = document.getElementById(id);
  if (!found) throw new TypeError(`The page has no element #${id}`);
  return found;
}

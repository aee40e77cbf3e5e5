import { applyLaunchStyle, createPageSession, launchHere, type Launch, type Now } from "tenonsaw/browser";
import { plot } from "./plot.js";
import { nameOf, readObservations, readPatient } from "./record.js";

const launch = launchHere();
const page = createPageSession({ launch });
const [main, banner, user] = [find("page"), find("banner"), find("user")];

/** Shows what is known: nothing is drawn of a record before it is known whose it is. */
async function show(now: Now): Promise<void> {
  if (now.kind === "unknown") return;
  if (now.kind === "nobody") {
    showNobody();
    return;
  }
  user.textContent = now.person.name ?? "";
  if (now.launch) await showRecord(now.launch, now.openedElsewhere);
}

function showNobody(): void {
  drawing += 1;
  banner.hidden = true;
  if (launch !== undefined) {
    main.replaceChildren(
      text("h1", "This record is closed"),
      text("p", "Open it from the clinic once more."),
    );
    return;
  }
  const button = text("button", "Choose a record at Boathouse Clinic");
  button.addEventListener("click", () => location.assign("/sign-in/to/boathouse?returnTo=/"));
  main.replaceChildren(
    text("h1", "What a rower's body says"),
    text(
      "p",
      "The clinic opens this app for the record that it has before it. Or begin here, and choose one.",
    ),
    button,
  );
}

/** Records are read one after the other; whoever began to be drawn last is shown, and nobody else. */
let drawing = 0;

async function showRecord(context: Launch, elsewhere: string | undefined): Promise<void> {
  const own = ++drawing;
  if (context.style) applyLaunchStyle(context.style);
  const { patient: id } = context;
  if (id === undefined) {
    main.replaceChildren(text("h1", "The clinic has named no patient"));
    return;
  }
  try {
    const patient = await readPatient(page, id);
    if (own !== drawing) return;
    // Unless the host says that it shows whose record it is, this app does.
    banner.hidden = context.needPatientBanner === false;
    banner.textContent = `${nameOf(patient)}, born ${patient.birthDate ?? "on a day that is not known"}`;
    const parts: Node[] = [text("h1", `${nameOf(patient)}: training`)];
    if (elsewhere !== undefined)
      parts.push(
        text(
          "p",
          `The clinic has opened another record since, in another tab. This one is ${nameOf(patient)}'s.`,
          "note",
        ),
      );
    if (context.notGranted.length > 0)
      parts.push(text("p", `The clinic has not granted: ${context.notGranted.join(", ")}.`, "note"));
    else {
      const plots = document.createElement("div");
      plots.className = "plots";
      plots.append(
        plot("Resting pulse", await readObservations(page, id, "vital-signs")),
        plot("Lactate after test", await readObservations(page, id, "laboratory")),
      );
      parts.push(plots);
    }
    if (own !== drawing) return;
    const close = text("button", "Close this record");
    close.addEventListener("click", () => void page.signOut());
    main.replaceChildren(...parts, close);
  } catch (error) {
    if (own !== drawing) return;
    banner.hidden = true;
    main.replaceChildren(
      text("h1", "The record could not be read"),
      text("p", error instanceof Error ? error.message : String(error), "note"),
    );
  }
}

function find(id: string): HTMLElement {
  return document.getElementById(id) ?? document.body;
}

function text(name: string, content: string, className = ""): HTMLElement {
  const made = document.createElement(name);
  made.textContent = content;
  made.className = className;
  return made;
}

page.subscribe((now) => void show(now));

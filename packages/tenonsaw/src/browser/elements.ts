import type { AccountView } from "../server/connections/accounts.js";
import { isServed, type PageSession } from "./page-session.js";
import { quoted } from "../problem/index.js";
import { requireSession, sessionUnclear } from "./require-session.js";
import { places, type Ending, type Where } from "./windows.js";
import { pauseMilliseconds, wordOf, wordOfNeed, speaking, warnOf, type PartWords } from "./words.js";

export type { PartWords } from "./words.js";

/** How the parts speak. */
export interface ElementOptions {
  /** BCP 47. Default: the page's `lang`. */
  readonly language?: string;
  /** Words of one's own. */
  readonly words?: Partial<PartWords>;
}

/** What the parts look like unless the page says otherwise, by these variables and by `::part()`. */
const style = `
:host{display:block}
:host([hidden]){display:none}
button,summary{font:inherit;color:inherit;cursor:pointer}
button{padding:.5em 1em;border:1px solid var(--tenonsaw-accent,currentColor);border-radius:var(--tenonsaw-corner,.4em);background:none;margin-inline-end:.5em}
button:disabled{cursor:default;opacity:.6}
button:focus-visible,summary:focus-visible{outline:2px solid var(--tenonsaw-accent,currentColor);outline-offset:2px}
ul{list-style:none;margin:0;padding:0}
li,p,button{margin-block:var(--tenonsaw-gap,.5em)}
img{width:2em;height:2em;border-radius:50%;vertical-align:middle;margin-inline-end:.5em}
`;

/** Elements are defined once in a page, and so whose they are. */
let definedFor: PageSession | undefined;

/** What `<tenonsaw-for>` is for. */
const kinds: readonly string[] = [
  "somebody",
  "nobody",
  "unknown",
] satisfies readonly PageSession["now"]["kind"][];

/**
 * Defines the parts of a page as elements of their own, all about one session: `<tenonsaw-for who="somebody">` (or `nobody`,
 * `unknown`), `<tenonsaw-providers>`, `<tenonsaw-person>`, `<tenonsaw-accounts>` and `<tenonsaw-question>`. Providers and
 * accounts take `in="pop-up"`. They bring no inline style and no inline script, so that a strict Content-Security-Policy
 * with Trusted Types lets them be; hide `tenonsaw-for:not(:defined)` until they are there.
 *
 * @throws page.session-unclear
 */
export function defineElements(session: PageSession, options: ElementOptions = {}): void {
  requireSession(session);
  if (definedFor && definedFor !== session)
    throw sessionUnclear("the session that the elements are about already", "another one", "other");
  definedFor = session;
  const { words, language } = speaking(
    options.language ?? (document.documentElement.lang || "en"),
    options.words,
  );
  const sheet = new CSSStyleSheet();
  sheet.replaceSync(style);

  /** Draws itself anew whenever something changes. */
  abstract class Part extends HTMLElement {
    readonly place = this.attachShadow({ mode: "open" });
    #end: (() => void) | undefined;

    abstract draw(): readonly (Node | string)[] | Promise<readonly (Node | string)[]>;

    connectedCallback(): void {
      const at = this.getAttribute("in") ?? "this window";
      if (!places.includes(at)) warnOf(`in=${quoted(at, 40)}`, places.join(", "));
      this.place.adoptedStyleSheets = [sheet];
      this.#end = session.subscribe(() => void this.show());
      void this.show();
    }

    disconnectedCallback(): void {
      this.#end?.();
    }

    #count = 0;
    #shownFor: unknown;
    async show(): Promise<void> {
      const count = (this.#count += 1);
      const isLatest = () => count === this.#count;
      let parts: readonly (Node | string)[];
      try {
        const drawn = this.draw();
        // What is there of somebody else is not shown while the answer for the next is on its way.
        if (drawn instanceof Promise && this.#shownFor !== session.now) this.place.replaceChildren();
        this.#shownFor = session.now;
        // What is known at once is drawn at once: nothing else is to be seen in between.
        parts = drawn instanceof Promise ? await drawn : drawn;
      } catch (error) {
        parts = isLatest() ? [say(failed(error))] : [];
        setTimeout(() => isLatest() && this.isConnected && void this.show(), pauseMilliseconds);
      }
      // The latest stands, whichever was answered last.
      if (isLatest()) this.place.replaceChildren(...parts);
    }

    get where(): Where {
      return this.getAttribute("in") === "pop-up" ? { in: "pop-up" } : {};
    }
  }

  const names: string[] = [];
  const define = (name: string, part: new () => Part) => {
    names.push(name);
    if (!customElements.get(name)) customElements.define(name, part);
  };
  /** An element that nobody has defined shows what is in it to everybody, or nothing. */
  const lookForOthers = () => {
    for (const { localName } of document.querySelectorAll(":not(:defined)"))
      if (localName.startsWith("tenonsaw-")) warnOf(`<${localName}>`, names.join(", "));
  };
  if (document.readyState === "loading") document.addEventListener("DOMContentLoaded", lookForOthers);
  else queueMicrotask(lookForOthers);

  define(
    "tenonsaw-for",
    class extends Part {
      draw() {
        const who = this.getAttribute("who") ?? "somebody";
        if (!kinds.includes(who)) warnOf(`who=${quoted(who, 40)}`, kinds.join(", "));
        return who === session.now.kind ? [draw("slot")] : [];
      }
    },
  );

  define(
    "tenonsaw-providers",
    class extends Part {
      async draw() {
        if (session.now.kind !== "nobody") return [];
        if (!isServed(session)) return actButton(words.signIn, () => session.signIn(undefined, this.where));
        const providers = await session.providers();
        return providers.flatMap(({ name, title }) =>
          actButton(
            words.signInWith.replace("{provider}", () => title),
            () => session.signIn(name, this.where),
          ),
        );
      }
    },
  );

  define(
    "tenonsaw-person",
    class extends Part {
      draw() {
        const { now } = session;
        if (now.kind !== "somebody") return [];
        const { name = words.member, picture } = now.person;
        const summary = part("name", draw("summary", name));
        if (picture !== undefined) summary.prepend(Object.assign(draw("img"), { src: picture, alt: "" }));
        const ways = actButton(words.signOut, () => silently(session.signOut()));
        if (isServed(session))
          ways.push(...actButton(words.everywhere, () => silently(session.signOut({ everywhere: true }))));
        return [part("menu", draw("details", summary, ...ways))];
      }
    },
  );

  define(
    "tenonsaw-accounts",
    class extends Part {
      async draw() {
        if (session.now.kind !== "somebody" || !isServed(session)) return [];
        const { accounts, providers } = await session.accounts();
        const served = session;
        const again = (work: () => Promise<Ending | undefined>) => () =>
          work().finally(() => void this.show());
        const date = new Intl.DateTimeFormat(language, { dateStyle: "medium" });
        const line = (account: AccountView) => {
          const { id, provider, status, isConfirmed, connectedAt, allows, title } = account;
          const since = words.since.replace("{date}", date.format(connectedAt * 1000));
          return part(
            "account",
            draw(
              "li",
              draw("strong", account.name ?? account.account),
              ` ${title}, ${since}${isConfirmed ? "" : ` (${words.unconfirmed})`}`,
              draw(
                "p",
                `${allows.join(", ")}: ${status === "in order" ? words.inOrder : words.needsConsent}`,
              ),
              ...actButton(
                words.again,
                again(() => served.connect(provider, { ...this.where, account: account.account })),
              ),
              ...actButton(
                words.disconnect,
                again(() => silently(served.disconnect(id))),
              ),
            ),
          );
        };
        const section = draw(
          "section",
          draw("h2", words.accounts),
          accounts.length === 0 ? draw("p", words.noAccounts) : draw("ul", ...accounts.map(line)),
          ...providers.flatMap(({ name, title }) =>
            actButton(
              words.connect.replace("{provider}", () => title),
              again(() => served.connect(name, this.where)),
            ),
          ),
        );
        section.ariaLabel = words.accounts;
        return [section];
      }
    },
  );

  define(
    "tenonsaw-question",
    class extends Part {
      draw() {
        const { asking } = session;
        if (!asking) return [];
        const question = say(wordOfNeed(asking.problem, words));
        const group = draw(
          "section",
          draw("p", question),
          ...actButton(words.agree, () => asking.agree()),
          ...actButton(words.refuse, () => {
            asking.refuse();
            return Promise.resolve(undefined);
          }),
        );
        group.ariaLabel = words.agree;
        return [part("question", group)];
      }
    },
  );

  /** To whoever is there; why, in the console. */
  function failed(error: unknown): string {
    console.warn(error);
    return words.failed;
  }

  /** A button that does one thing at a time, and says how it ended. */
  function actButton(text: string, act: () => Promise<Ending | undefined>): HTMLElement[] {
    const button = part("button", draw("button", text));
    const status = say("");
    button.type = "button";
    button.addEventListener("click", () => {
      button.disabled = true;
      status.textContent = "";
      act()
        .then((ending) => (status.textContent = ending ? (wordOf(ending.kind, words) ?? "") : ""))
        .catch((error: unknown) => (status.textContent = failed(error)))
        .finally(() => (button.disabled = false));
    });
    return [button, status];
  }
}

/** As something that has an ending, and says nothing of it. */
function silently(work: Promise<void>): Promise<undefined> {
  return work.then(() => undefined);
}

function draw<Name extends keyof HTMLElementTagNameMap>(
  name: Name,
  ...inside: readonly (string | Node)[]
): HTMLElementTagNameMap[Name] {
  const made = document.createElement(name);
  made.append(...inside);
  return made;
}

/** What a page can style from outside. */
function part<Made extends HTMLElement>(name: string, made: Made): Made {
  made.part.add(name);
  return made;
}

function say(text: string): HTMLElement {
  const status = part("status", draw("span", text));
  status.role = "status";
  return status;
}

import {
  Component,
  createContext,
  createElement,
  Fragment,
  useCallback,
  useContext,
  useEffect,
  useMemo,
  useRef,
  useState,
  useSyncExternalStore,
  type ReactNode,
} from "react";
import { isProblem, type Problem, type ProblemError } from "../problem/index.js";
import type { AccountView } from "../server/connections/accounts.js";
import type { Launch, PersonForPages } from "../session/index.js";
import type { Asking } from "./askings.js";
import type { Now } from "./follow-session.js";
import { oddName } from "./names.js";
import { isServed, type PageAccounts, type PageSession } from "./page-session.js";
import { requireSession, sessionUnclear } from "./require-session.js";
import type { Ending, Where } from "./windows.js";
import { pauseMilliseconds, wordOf, wordOfNeed, speaking, warnOf, type PartWords } from "./words.js";

interface Scope {
  readonly session: PageSession;
  readonly words: PartWords;
  readonly language: string;
}

const ScopeContext = createContext<Scope | undefined>(undefined);

/**
 * What everything below it is about: a session of createPageSession or openPageSignIn, made once, outside of components.
 *
 * @throws page.session-unclear
 */
export function PageSessionScope({
  session,
  language = "en",
  words,
  children,
}: {
  readonly session: PageSession;
  /** BCP 47. Default: `en`. */
  readonly language?: string;
  /** Words of one's own for the parts. */
  readonly words?: Partial<PartWords>;
  readonly children?: ReactNode;
}): ReactNode {
  requireSession(session);
  // What is made while something is drawn is made each time, and asks the server each time.
  const known = useRef(new Set<PageSession>());
  useEffect(() => {
    if (known.current.size > 2) return;
    known.current.add(session);
    if (known.current.size > 2)
      console.warn(
        sessionUnclear("one session, made outside of components", "a third one", "remade").message,
      );
  }, [session]);
  const value = useMemo(() => ({ session, ...speaking(language, words) }), [session, language, words]);
  return createElement(ScopeContext.Provider, { value }, children);
}

function useScope(): Scope {
  const scope = useContext(ScopeContext);
  if (!scope) throw sessionUnclear("a PageSessionScope above this component", "none", "no-scope");
  return scope;
}

/** The session of this page, to sign in, sign out and make calls with. */
export function usePageSession(): PageSession {
  return useScope().session;
}

/** Whether somebody is signed in, and who. A page that was drawn on the server begins as it was there. */
export function useNow(): Now {
  const session = usePageSession();
  return useSyncExternalStore(
    session.subscribe,
    () => session.now,
    () => session.first,
  );
}

/** In which context a host has opened this page; undefined where none has, or nobody is signed in. */
export function useLaunch(): Launch | undefined {
  const now = useNow();
  return now.kind === "somebody" ? now.launch : undefined;
}

/** What a call waits for the person to agree to. */
export function useAsking(): Asking | undefined {
  const session = usePageSession();
  return useSyncExternalStore(
    session.subscribe,
    () => session.asking,
    () => undefined,
  );
}

/** Shown as long as it is not known whether somebody is signed in. */
export function WhileUnknown({ children }: { readonly children?: ReactNode }): ReactNode {
  return useNow().kind === "unknown" ? children : null;
}

/** Shown to somebody who is signed in; a function is told who. */
export function ForSomebody({
  children,
}: {
  readonly children?: ReactNode | ((person: PersonForPages) => ReactNode);
}): ReactNode {
  const now = useNow();
  if (now.kind !== "somebody") return null;
  return typeof children === "function" ? children(now.person) : children;
}

/** Shown to nobody in particular. */
export function ForNobody({ children }: { readonly children?: ReactNode }): ReactNode {
  return useNow().kind === "nobody" ? children : null;
}

interface ButtonProps {
  readonly children?: ReactNode;
  readonly className?: string;
}

/** A button that does one thing at a time, and says how it ended. */
function ActButton({
  act,
  children,
  className,
}: ButtonProps & { readonly act: () => Promise<Ending | undefined> }): ReactNode {
  const { words } = useScope();
  const [isBusy, setBusy] = useState(false);
  const [said, say] = useState<string>();
  const onClick = () => {
    setBusy(true);
    say(undefined);
    act()
      .then((ending) => ending && say(wordOf(ending.kind, words)))
      .catch((error: unknown) => {
        say(words.failed);
        console.warn(error);
      })
      .finally(() => setBusy(false));
  };
  return createElement(
    Fragment,
    null,
    createElement("button", { type: "button", disabled: isBusy, onClick, className }, children),
    createElement("span", { role: "status" }, said),
  );
}

/** As something that has an ending, and says nothing of it. */
function silently(work: () => Promise<void>): () => Promise<undefined> {
  return () => work().then(() => undefined);
}

const tripNames = ["in", "returnTo"];

/** Of a part's props those that say what its trips are like; others, such as `data-…`, do nothing, which the console says. */
function tripOf<Props extends object>(part: string, props: Props, names = tripNames): Partial<Props> {
  const odd = oddName(props, names);
  if (odd !== undefined) warnOf(`${odd} of ${part}`, ["className", ...names].join(", "));
  return Object.fromEntries(Object.entries(props).filter(([name]) => names.includes(name))) as Partial<Props>;
}

/** A button that signs in: with one provider, or where the person chooses. */
export function SignInWith({
  provider,
  children,
  className,
  ...wish
}: ButtonProps & Where & { readonly provider?: string; readonly scope?: string }): ReactNode {
  const { session, words } = useScope();
  const trip = tripOf("SignInWith", wish, [...tripNames, "scope", "maxAge", "acrValues", "loginHint"]);
  const act = () => session.signIn(provider, trip);
  return createElement(
    ActButton,
    { act, ...(className !== undefined && { className }) },
    children ?? words.signIn,
  );
}

/** A button for each provider that the server offers; one for all of them where there is no server. */
export function ProviderButtons({ className, ...props }: Where & Pick<ButtonProps, "className">): ReactNode {
  const { session, words } = useScope();
  const where = tripOf("ProviderButtons", props);
  const load = useCallback(() => (isServed(session) ? session.providers() : Promise.resolve([])), [session]);
  const { loaded, failed } = useLoaded(load);
  if (!isServed(session))
    return createElement(SignInWith, { ...where, ...(className !== undefined && { className }) });
  if (failed !== null) return failed;
  return (loaded ?? []).map(({ name, title }) =>
    createElement(
      SignInWith,
      { key: name, provider: name, ...where, ...(className !== undefined && { className }) },
      words.signInWith.replace("{provider}", () => title),
    ),
  );
}

/** Who is signed in, and the way out: here, or everywhere. */
export function PersonMenu({ className }: Pick<ButtonProps, "className">): ReactNode {
  const { session, words } = useScope();
  const now = useNow();
  if (now.kind !== "somebody") return null;
  const { name, picture } = now.person;
  return createElement(
    "details",
    { className },
    createElement(
      "summary",
      null,
      picture !== undefined && createElement("img", { src: picture, alt: "" }),
      name ?? words.member,
    ),
    createElement(ActButton, { act: silently(() => session.signOut()) }, words.signOut),
    isServed(session) &&
      createElement(
        ActButton,
        { act: silently(() => session.signOut({ everywhere: true })) },
        words.everywhere,
      ),
  );
}

/** What the person has connected, and can: each with what it may do, and buttons to repair and to end it. */
export function AccountsPanel({ className, ...props }: Where & Pick<ButtonProps, "className">): ReactNode {
  const { session, words, language } = useScope();
  const where = tripOf("AccountsPanel", props);
  const now = useNow();
  const load = useCallback(
    () =>
      now.kind === "somebody" && isServed(session)
        ? session.accounts()
        : Promise.resolve({ accounts: [], providers: [] }),
    [session, now],
  );
  const { loaded, failed, again } = useLoaded<PageAccounts>(load);
  if (now.kind !== "somebody" || !isServed(session)) return null;
  if (failed !== null || !loaded) return failed;
  const then = (work: Promise<Ending | undefined>) => work.finally(again);
  const date = new Intl.DateTimeFormat(language, { dateStyle: "medium" });
  const line = (account: AccountView) =>
    createElement(
      "li",
      { key: account.id },
      createElement("strong", null, account.name ?? account.account),
      ` ${account.title}, ${words.since.replace("{date}", date.format(account.connectedAt * 1000))}`,
      !account.isConfirmed && ` (${words.unconfirmed})`,
      createElement("ul", null, ...account.allows.map((each) => createElement("li", { key: each }, each))),
      createElement("p", null, account.status === "in order" ? words.inOrder : words.needsConsent),
      createElement(
        ActButton,
        { act: () => then(session.connect(account.provider, { ...where, account: account.account })) },
        words.again,
      ),
      createElement(
        ActButton,
        { act: () => then(silently(() => session.disconnect(account.id))()) },
        words.disconnect,
      ),
    );
  return createElement(
    "section",
    { className, "aria-label": words.accounts },
    createElement("h2", null, words.accounts),
    loaded.accounts.length === 0
      ? createElement("p", null, words.noAccounts)
      : createElement("ul", null, ...loaded.accounts.map(line)),
    ...loaded.providers.map(({ name, title }) =>
      createElement(
        ActButton,
        { key: name, act: () => then(session.connect(name, where)) },
        words.connect.replace("{provider}", () => title),
      ),
    ),
  );
}

interface Loaded<Value> {
  readonly loaded: Value | undefined;
  /** That it cannot be shown now, for whoever looks. */
  readonly failed: ReactNode;
  readonly again: () => void;
}

/** Loads when it is first shown and when `load` changes; once more when asked to, and a little later where it failed. */
function useLoaded<Value>(load: () => Promise<Value>): Loaded<Value> {
  const { words } = useScope();
  // What was loaded for somebody else, or by another way, is not shown while the next is on its way.
  const [held, setHeld] = useState<{ readonly by: typeof load; readonly value: Value }>();
  const loaded = held?.by === load ? held.value : undefined;
  const [failure, setFailure] = useState<unknown>();
  const [count, setCount] = useState(0);
  const again = () => setCount((before) => before + 1);
  useEffect(() => {
    let isOver = false;
    let timer: ReturnType<typeof setTimeout> | undefined;
    load().then(
      (value) => {
        if (isOver) return;
        setHeld({ by: load, value });
        setFailure(undefined);
      },
      (error: unknown) => {
        if (isOver) return;
        setFailure(error);
        if (hasWayOut(error)) return;
        console.warn(error);
        timer = setTimeout(again, pauseMilliseconds);
      },
    );
    return () => {
      isOver = true;
      clearTimeout(timer);
    };
  }, [load, count]);
  // What the person can be asked for is WayOut's; anything else must not take the page away that is around it.
  if (hasWayOut(failure)) throw failure;
  const failed = failure === undefined ? null : createElement("span", { role: "status" }, words.failed);
  return { loaded, failed, again };
}

/** Whether the person can do something about it. */
function hasWayOut(error: unknown): error is ProblemError {
  return (
    isProblem(error) && (error.problem.ask !== undefined || error.problem.code === "session.not-signed-in")
  );
}

/**
 * Turns what needs the person's agreement into a question and two buttons: a problem that a component below throws, and what a
 * call with `wait` waits for. Other errors go on up.
 */
export function WayOut({ children }: { readonly children?: ReactNode }): ReactNode {
  const { session } = useScope();
  const asking = useAsking();
  return createElement(
    Fragment,
    null,
    asking && createElement(Question, asking),
    createElement(Boundary, { ask: (problem: Problem) => session.ask(problem, { in: "pop-up" }) }, children),
  );
}

function Question({
  problem,
  agree,
  refuse,
}: {
  readonly problem: Problem;
  readonly agree: () => Promise<Ending>;
  readonly refuse?: () => void;
}): ReactNode {
  const { words } = useScope();
  return createElement(
    "section",
    { className: "tenonsaw-question", "aria-label": words.agree },
    createElement("p", { role: "status" }, wordOfNeed(problem, words)),
    createElement(ActButton, { act: agree }, words.agree),
    refuse && createElement("button", { type: "button", onClick: refuse }, words.refuse),
  );
}

interface BoundaryProps {
  readonly ask: (problem: Problem) => Promise<Ending>;
  readonly children?: ReactNode;
}

class Boundary extends Component<BoundaryProps, { readonly error?: Error | undefined }> {
  override readonly state: { readonly error?: Error | undefined } = {};

  static getDerivedStateFromError(error: Error): { readonly error: Error } {
    return { error };
  }

  override render(): ReactNode {
    const { error } = this.state;
    if (error === undefined) return this.props.children;
    if (!hasWayOut(error)) throw error;
    const agree = async () => {
      const ending = await this.props.ask(error.problem);
      if (ending.kind === "granted") this.setState({ error: undefined });
      return ending;
    };
    return createElement(Question, { problem: error.problem, agree });
  }
}

import QuickLRU from "quick-lru";
import { fail, isProblem } from "../problem/index.js";
import {
  hashId,
  sessionIdOf,
  seal,
  unseal,
  type AttemptRecord,
  type ConnectionRecord,
  type Cookies,
  type IdentityRecord,
  type Keeping,
  type PersonRecord,
  type SessionRecord,
  type Store,
} from "../session/index.js";

/** Each browser keeps its own, sealed: there is nothing on the server. */
export interface BrowserStore {
  /**
   * The store of one request's browser.
   *
   * @param browser undefined where there is none: everything is then refused as store.in-browser
   */
  open(keeping: Pick<Keeping, "tools" | "ring" | "app">, browser?: Browser): OpenedBrowser;
}

/** The browser whose sessions are meant: its request, and how its cookies are named. */
export interface Browser {
  readonly request: Request;
  readonly cookies: Cookies;
  /** Whether what changes reaches it: in answers of the sign-in routes. */
  readonly isAnswered: boolean;
}

/** The store of one request, and the cookies that its browser is to keep in the end. */
export interface OpenedBrowser {
  readonly store: Store;
  /** Set-Cookie lines for what has changed. */
  readonly changes: () => readonly string[];
}

/** What one browser keeps of its session. */
interface Kept {
  readonly person: PersonRecord;
  readonly identity: IdentityRecord;
  readonly session: SessionRecord;
  readonly connection?: ConnectionRecord;
}

/** RFC 6265 section 6.1: at least 4096 bytes a cookie with its name and attributes; all headers together stay below 16 KiB. */
const chunkLength = 3900;
const mostChunks = 2;
/** Each is a cookie of its own, so that two tabs do not write over one another. */
const mostAttempts = 3;

/**
 * Keeps sessions in their browsers alone, sealed, for an app without a store. What that cannot do is refused, and said
 * at the start where the settings ask for it: no refresh tokens (two requests could not agree on who renews), nobody is
 * signed out from elsewhere, nothing of a person is found without their browser, no linked identities, and at most one
 * day, because a copied cookie is good to its end.
 */
export function createCookieStore(): BrowserStore {
  /** Attempts that this process has seen used: the browser's own note of it comes too late for a double click. */
  const used = new QuickLRU<string, number>({ maxSize: 10_000 });
  return { open: (keeping, browser) => openBrowser(keeping, used, browser) };
}

/** Whether sessions are kept in their browsers. */
export function isBrowserStore(store: Store | BrowserStore): store is BrowserStore {
  return "open" in store;
}

function openBrowser(
  { tools, ring, app }: Pick<Keeping, "tools" | "ring" | "app">,
  used: QuickLRU<string, number>,
  browser?: Browser,
): OpenedBrowser {
  const changed = new Map<string, string>();
  const attempts = browser?.cookies.readSealed(browser.request, "attempt-");
  let reading: Promise<Kept | undefined> | undefined;

  const refuse = (what: string): never => fail("store.in-browser", { received: what });
  const refused = (what: string): Promise<never> => Promise.resolve().then(() => refuse(what));
  const write = (name: `kept-${string}` | `attempt-${string}`, value?: string, until = 0) => {
    if (!browser?.isAnswered) return refuse("a change outside the sign-in routes");
    const seconds = Math.max(0, Math.ceil(until - tools.platform.now()));
    changed.set(name, browser.cookies.writeSealed(name, value, seconds));
  };
  /** A value that does not open is none of ours, or was sealed with a key that is gone: as if it were not there. */
  const open = async <Value>(place: string, sealed: string): Promise<Value | undefined> => {
    try {
      return JSON.parse(await unseal(tools, ring, place, sealed)) as Value;
    } catch (error) {
      if (isProblem(error)) return undefined;
      throw error;
    }
  };
  const readKept = (): Promise<Kept | undefined> =>
    (reading ??= (async () => {
      if (!browser) return refuse("a session without its browser");
      const { cookies, request } = browser;
      const chunks = cookies.readSealed(request, "kept-");
      const sealed = Array.from({ length: mostChunks }, (_, index) => chunks.get(String(index)) ?? "").join(
        "",
      );
      const value = cookies.read(request, "session");
      if (sealed === "" || value === undefined) return undefined;
      return open<Kept>(keptPlace(await sessionIdOf({ tools, app }, value)), sealed);
    })());
  const keep = async (next: Kept) => {
    const { id, expiresAt } = next.session;
    const sealed = await seal(tools, ring, keptPlace(id), JSON.stringify(next));
    if (sealed.length > chunkLength * mostChunks)
      fail("store.cookies-full", { received: `${sealed.length} characters` });
    for (let index = 0; index < mostChunks; index += 1)
      write(
        `kept-${index}`,
        sealed.slice(index * chunkLength, (index + 1) * chunkLength) || undefined,
        expiresAt,
      );
    reading = Promise.resolve(next);
  };
  const readAttempt = async (id: string): Promise<AttemptRecord | undefined> => {
    const all = [...(attempts ?? refuse("an attempt without its browser"))];
    const [, sealed] = all.find(([name]) => name.endsWith(shortId(id))) ?? [];
    const found = sealed === undefined ? undefined : await open<AttemptRecord>(attemptPlace(id), sealed);
    const usedAt = used.get(id);
    return found && usedAt !== undefined ? { ...found, usedAt } : found;
  };
  const writeAttempt = async (record: AttemptRecord) => {
    const sealed = await seal(tools, ring, attemptPlace(record.id), JSON.stringify(record));
    if (sealed.length > chunkLength)
      fail("store.cookies-full", { received: `an attempt of ${sealed.length} characters` });
    write(`attempt-${attemptName(record)}`, sealed, record.expiresAt);
  };
  const own = async (id: string): Promise<Kept | undefined> => {
    const found = await readKept();
    return found?.session.id === id ? found : undefined;
  };

  const store: Store = {
    // The same person each time, though nobody remembers them.
    namePerson: ({ issuer, subject }) => hashId(tools.platform, `${issuer} ${subject}`),
    async addAttempt(record) {
      const before = [...(attempts?.keys() ?? [])].sort();
      for (const name of before.slice(0, Math.max(0, before.length - mostAttempts + 1)))
        write(`attempt-${name}`);
      await writeAttempt(record);
    },
    findAttempt: readAttempt,
    async useAttempt(id, usedAt) {
      const attempt = await readAttempt(id);
      if (!attempt || attempt.usedAt !== undefined) return false;
      used.set(id, usedAt);
      // Noted in the browser until it expires, without its secrets: whoever comes back to it is told where to go.
      await writeAttempt({ ...attempt, sealedAttempt: "", usedAt });
      return true;
    },
    async saveSignIn({ personId, profile, identity, session, connection }) {
      const before = await readKept();
      const known = before?.identity;
      const isSame = known?.issuer === identity.issuer && known.subject === identity.subject;
      if (isSame && known.personId !== personId) return undefined;
      const { createdAt } = session;
      const isPerson = before?.person.id === personId;
      const person = { id: personId, ...profile, createdAt: isPerson ? before.person.createdAt : createdAt };
      const { sealedRefreshToken: _notHere, ...held } = connection ?? {};
      await keep({
        person,
        identity: {
          ...identity,
          personId,
          createdAt: isSame ? known.createdAt : createdAt,
          lastSignInAt: createdAt,
        },
        session: { ...session, personId },
        ...(connection && { connection: { ...held, personId } as ConnectionRecord }),
      });
      return { person, held: before?.connection ? [before.connection] : [] };
    },
    async findIdentity(issuer, subject) {
      const { identity } = (await readKept()) ?? {};
      return identity?.issuer === issuer && identity.subject === subject ? identity : undefined;
    },
    async findIdentities(personId) {
      const found = await readKept();
      return found?.person.id === personId ? [found.identity] : [];
    },
    linkIdentity: () => refused("a further identity"),
    unlinkIdentity: () => refused("an identity to take away"),
    async findSession(id) {
      const found = await own(id);
      return found && { session: found.session, person: found.person };
    },
    async findSessions(query) {
      const found = await readKept();
      const sought = Object.entries(query as Record<string, string | undefined>);
      const fits = sought.every(
        ([name, value]) => value === undefined || found?.session[name as keyof SessionRecord] === value,
      );
      return found && fits ? [{ session: found.session, person: found.person }] : [];
    },
    changeSession: () => Promise.resolve(),
    async endSession(id) {
      const found = await own(id);
      if (!found) return [];
      for (let index = 0; index < mostChunks; index += 1) write(`kept-${index}`);
      reading = Promise.resolve(undefined);
      return found.connection ? [found.connection] : [];
    },
    useMark: () => refused("a notice from server to server"),
    isMarked: () => Promise.resolve(false),
    // Nothing is ever renewed here: there is nothing to be alone for.
    takeLease: () => Promise.resolve({ kind: "taken", number: 1 }),
    releaseLease: () => Promise.resolve(),
    removePerson: () => refused("a person without their browser"),
    keepConnection: () => refused("a connection that outlives its session"),
    findKept: () => Promise.resolve(undefined),
    findAllKept: () => Promise.resolve([]),
    touchKept: () => Promise.resolve(),
    dropKept: () => Promise.resolve(undefined),
    async findConnection(sessionId, provider) {
      const { connection } = (await own(sessionId)) ?? {};
      return connection?.provider === provider ? connection : undefined;
    },
    replaceConnection: () => Promise.resolve(false),
    sweep: () => Promise.resolve({ count: 0, held: [] }),
    close: () => Promise.resolve(),
  };
  return { store, changes: () => [...changed.values()] };
}

function keptPlace(sessionId: string): string {
  return `cookie/session/${sessionId}`;
}

function attemptPlace(id: string): string {
  return `cookie/attempt/${id}`;
}

/** In the order in which they began. */
function attemptName({ id, beganAt }: AttemptRecord): string {
  return Math.floor(beganAt).toString(36).padStart(7, "0") + shortId(id);
}

function shortId(id: string): string {
  return id.slice(0, 16);
}

import type { AccountView } from "tenonsaw/server";

/** What Ferrywell's own server answers. */
export interface Connection {
  readonly scope: readonly string[];
  readonly status: "active" | "needs consent";
  readonly obtainedAt: number;
  readonly expiresAt?: number;
  readonly refreshCount: number;
}

export interface Somebody {
  readonly kind: "somebody";
  readonly person: { readonly name?: string; readonly email?: string; readonly picture?: string };
  readonly signedInAt: number;
  readonly connection?: Connection;
  /** Name of the provider signed in with. */
  readonly provider: string;
  readonly identities: readonly Identity[];
  readonly sessions: readonly SignedInBrowser[];
  readonly providers: readonly Provider[];
  readonly unlinkPath: string;
  readonly signOutPath: string;
}

/** One of the browsers in which this member is signed in. */
export interface SignedInBrowser {
  readonly id: string;
  readonly provider: string;
  readonly device?: string;
  readonly signedInAt: number;
  readonly isThis: boolean;
}

/** A way to sign in. */
export interface Identity {
  readonly issuer: string;
  readonly subject: string;
  readonly provider: string;
  readonly lastSignInAt: number;
}

export interface Provider {
  readonly name: string;
  readonly title: string;
  readonly href: string;
  readonly linkPath: string;
}

export interface Nobody {
  readonly kind: "nobody";
  readonly providers: readonly Provider[];
}

export interface Tides {
  readonly place: string;
  readonly readAt: number;
  readonly tides: readonly {
    readonly at: number;
    readonly kind: "high" | "low";
    readonly heightMetres: number;
  }[];
  readonly connection: Connection;
}

export interface Failure {
  readonly message: string;
  readonly connection?: Connection;
  /** The page where the account can be added that it takes. */
  readonly addAt?: string;
}

export async function askWho(): Promise<Somebody | Nobody> {
  return (await (await fetch("/api/me")).json()) as Somebody | Nobody;
}

/** What a member has connected and can connect, as the library's own route answers. */
export interface Accounts {
  readonly accounts: readonly AccountView[];
  readonly providers: readonly {
    readonly name: string;
    readonly title: string;
    readonly connectPath: string;
  }[];
  readonly disconnectPath: string;
}

export async function askAccounts(): Promise<Accounts> {
  return (await (await fetch("/sign-in/accounts")).json()) as Accounts;
}

export interface Invoices {
  readonly kind: "invoices";
  readonly invoices: readonly { readonly number: number; readonly to: string; readonly amount: number }[];
}

/** What went wrong, and where to go about it (RFC 9457). */
export interface RelayProblem {
  readonly kind: "problem";
  readonly title: string;
  readonly ways: { readonly connect?: string };
}

/** By the relay, which adds the token. */
export async function askInvoices(account: string): Promise<Invoices | RelayProblem> {
  const answer = await fetch("/sign-in/relay/ledger/api/invoices", {
    headers: { "tenonsaw-account": encodeURIComponent(account) },
  });
  const kind = answer.ok ? "invoices" : "problem";
  return { kind, ways: {}, title: "", ...((await answer.json()) as object) } as unknown as
    Invoices | RelayProblem;
}

/** Undefined when nobody is signed in any more. */
export async function askTides(): Promise<Tides | Failure | undefined> {
  const answer = await fetch("/api/tides");
  if (answer.status === 401) return undefined;
  return (await answer.json()) as Tides | Failure;
}

/** What Ferrywell holds for this member, and what happened to it, the newest first. */
export interface History {
  readonly now: number;
  readonly connections: readonly (Connection & {
    readonly provider: string;
    readonly isRenewable: boolean;
  })[];
  readonly events: readonly {
    readonly at: number;
    readonly process: number;
    readonly kind: "refreshed" | "taken over" | "refused" | "needs consent";
    readonly provider: string;
  }[];
}

/** Undefined when nobody is signed in any more. */
export async function askHistory(): Promise<History | undefined> {
  const answer = await fetch("/api/history");
  return answer.ok ? ((await answer.json()) as History) : undefined;
}

export interface Slots {
  readonly kind: "slots";
  readonly slots: readonly {
    readonly id: number;
    readonly at: string;
    readonly boat: string;
    readonly isFree: boolean;
  }[];
}

export async function askSlots(): Promise<Slots | RelayProblem> {
  return readSlots(await fetch("/sign-in/relay/tidebook/slots"));
}

/** Books a slot, or takes its booking back. */
export async function changeSlot(id: number, method: "POST" | "DELETE"): Promise<Slots | RelayProblem> {
  return readSlots(await fetch(`/sign-in/relay/tidebook/slots/${id}`, { method }));
}

async function readSlots(answer: Response): Promise<Slots | RelayProblem> {
  const kind = answer.ok ? "slots" : "problem";
  return { kind, ways: {}, title: "", ...((await answer.json()) as object) } as unknown as
    Slots | RelayProblem;
}

import type { Person } from "../people.js";
import type { SigningKeys } from "../quayside/signing-keys.js";
import type { Client } from "../quayside/state.js";
import type { RehearsalName } from "../rehearsals.js";
import type { Resource } from "./records.js";

/** What one consent has led to: ended as a whole. */
export interface Visit {
  readonly client: Client;
  readonly person?: Person;
  readonly rehearsal?: RehearsalName | undefined;
  isRevoked: boolean;
}

/** What a token is good for. */
export interface Clearance {
  readonly house: string;
  readonly family: Visit;
  readonly scope: readonly string[];
  readonly patient?: string | undefined;
  readonly encounter?: string | undefined;
  readonly opening?: Opening | undefined;
  readonly endsAt: number;
}

/** An app as it was opened from the ward: what the launch value stands for. */
export interface Opening {
  readonly house: string;
  readonly clientId: string;
  readonly person: Person;
  readonly patient: string;
  readonly encounter: string;
  /** Whether the ward itself shows whose record is open. */
  readonly showsBanner: boolean;
  readonly style: StyleName;
  readonly rehearsal?: RehearsalName | undefined;
  readonly expiresAt: number;
  isUsed: boolean;
}

/** What a browser has come to the clinic for. */
export interface Request {
  readonly house: string;
  readonly client: Client;
  readonly redirectUri: string;
  readonly state: string | null;
  readonly nonce: string | null;
  readonly scope: readonly string[];
  readonly codeChallenge: string;
  readonly opening?: Opening | undefined;
  rehearsal?: RehearsalName | undefined;
  person?: Person;
  patient?: string;
  encounter?: string;
}

export type StyleName = "none" | "calm" | "night";

/** All that Boathouse Clinic knows. In memory: it is for practice. */
export interface ClinicState {
  readonly origin: string;
  readonly people: readonly Person[];
  readonly clients: ReadonlyMap<string, Client>;
  readonly now: () => number;
  readonly accessTokenSeconds: number;
  readonly keys: SigningKeys;
  readonly rehearsal: () => RehearsalName | undefined;
  readonly records: () => readonly Resource[];
  readonly openings: Map<string, Opening>;
  readonly requests: Map<string, Request>;
  readonly codes: Map<string, Request>;
  readonly accessTokens: Map<string, Clearance>;
  readonly refreshTokens: Map<string, Clearance>;
  /** IDs of client assertions that were used. */
  readonly assertions: Set<string>;
}

/** The clinic's houses: each a FHIR server of its own, at a path of its own. */
export const houses = ["riverside", "mill-lane"] as const;

export const baseOf = ({ origin }: Pick<ClinicState, "origin">, house: string) => `${origin}/${house}/fhir`;
export const issuerAt = ({ origin }: Pick<ClinicState, "origin">, house: string) => `${origin}/${house}/id`;

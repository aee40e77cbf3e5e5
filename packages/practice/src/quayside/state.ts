import { createHash } from "node:crypto";
import type { Jwk } from "tenonsaw/jose";
import type { Person } from "../people.js";
import { requireKnownNames } from "../known-names.js";
import type { Prover } from "../proofs.js";
import type { RehearsalName } from "../rehearsals.js";
import type { SigningKeys } from "./signing-keys.js";

/** A registered client: OpenID Connect Dynamic Registration 1.0 section 2, the members used here. */
export interface Client {
  readonly clientId: string;
  /** Leave out for a public client. */
  readonly clientSecret?: string;
  /** Keys it signs client assertions with, their public parts (RFC 7523). It then has to. */
  readonly publicKeys?: readonly Jwk[];
  /** Signs its authorization requests with one of `publicKeys`, and has to (RFC 9101). */
  readonly signsRequests?: boolean;
  /** Gets ID tokens and userinfo signed, and encrypted to this public key, by its `alg` (OpenID Connect Core 1.0 10.2). */
  readonly encryptionKey?: Jwk;
  /** Proves itself by this certificate (PEM), or by one of the practice's authority with this common name (RFC 8705). */
  readonly certificate?: string;
  readonly certificateName?: string;
  /** Harbour Union only: which of its two access token formats this client is given. Default: 2. */
  readonly tokenFormat?: 1 | 2;
  readonly title: string;
  readonly redirectUris: readonly string[];
  readonly postLogoutRedirectUris: readonly string[];
  /** Where Boathouse Clinic opens it (SMART App Launch 2.2). */
  readonly launchUrl?: string;
  /** Where it is told of a sign-out: by a logout token, and in a frame. */
  readonly backChannelLogoutUri?: string;
  readonly frontChannelLogoutUri?: string;
}

const clientNames: Readonly<Record<keyof Client, true>> = {
  clientId: true,
  clientSecret: true,
  publicKeys: true,
  signsRequests: true,
  encryptionKey: true,
  certificate: true,
  certificateName: true,
  tokenFormat: true,
  title: true,
  redirectUris: true,
  postLogoutRedirectUris: true,
  launchUrl: true,
  backChannelLogoutUri: true,
  frontChannelLogoutUri: true,
};

/** @throws RangeError for what nobody could be registered by */
export function requireClient(client: Client): void {
  requireKnownNames("A client", client, clientNames);
  if (typeof client.clientId !== "string" || client.clientId === "")
    throw new RangeError("A client takes a clientId.");
  if (!Array.isArray(client.redirectUris) || !Array.isArray(client.postLogoutRedirectUris))
    throw new RangeError("A client takes lists of redirectUris and postLogoutRedirectUris.");
}

/** A browser in which somebody is signed in at the provider itself. */
export interface ProviderSession {
  /** `sid` in ID tokens. */
  readonly id: string;
  readonly person: Person;
  readonly authenticatedAt: number;
  /** The clients that were signed in to from here. */
  readonly clients: Set<Client>;
  /** The scopes that the person has allowed from here, by client ID: asked for again, nobody has to be asked. */
  readonly allowed: Map<string, ReadonlySet<string>>;
}

export interface Lifetimes {
  readonly accessTokenSeconds: number;
  readonly idTokenSeconds: number;
  readonly codeSeconds: number;
  /** Ledgerhouse only: a refresh token that nobody uses for so long is dead. */
  readonly refreshIdleSeconds: number;
}

/** A person is to allow this with a code, on whatever device they have at hand (RFC 8628). */
export interface DeviceCode {
  readonly userCode: string;
  readonly client: Client;
  readonly scope: readonly string[];
  readonly expiresAt: number;
  /** When the client last asked, for slow_down. */
  askedAt: number;
  /** Absent while nobody has decided. */
  decision?: Family | "declined";
}

/** What a client asked for, checked and waiting for a person. */
export interface PendingRequest {
  readonly client: Client;
  /** Empty for a device code: there is nowhere to return to. */
  readonly redirectUri: string;
  readonly device?: DeviceCode;
  readonly scope: readonly string[];
  readonly state: string | undefined;
  readonly nonce: string | undefined;
  readonly codeChallenge: string;
  /** Thumbprint of the key that the code is bound to (RFC 9449 section 10). */
  readonly keyThumbprint?: string | undefined;
  readonly responseType: string;
  readonly responseMode: string;
  readonly acr?: string | undefined;
  /** In seconds; Infinity where nothing was asked. */
  readonly maxAge: number;
  readonly prompt: readonly string[];
  person?: Person;
  rehearsal?: RehearsalName;
}

/** What a person allowed a client: one family of tokens, ended as a whole. */
export interface Family {
  readonly person: Person;
  readonly client: Client;
  readonly scope: readonly string[];
  readonly authenticatedAt: number;
  readonly acr?: string | undefined;
  readonly sessionId?: string | undefined;
  readonly rehearsal?: RehearsalName | undefined;
  /** Thumbprint of the key that its tokens are bound to. */
  keyThumbprint?: string | undefined;
  /** The same of the certificate. */
  certificateThumbprint?: string | undefined;
  /** The one refresh token that is good now; all earlier ones are spent. */
  refreshToken?: string;
  isRevoked: boolean;
}

export interface IssuedCode {
  readonly family: Family;
  readonly redirectUri: string;
  readonly nonce: string | undefined;
  readonly codeChallenge: string;
  readonly expiresAt: number;
  isUsed: boolean;
}

/** All that Quayside ID, or Harbour Union, knows. In memory: it is for practice. */
export interface QuaysideState {
  readonly brand: string;
  /** Where its endpoints are. */
  readonly issuer: string;
  /** Whether each organisation is an issuer of its own, at a path of its own (Harbour Union). */
  readonly hasOrganisations: boolean;
  /** The API that people's access tokens are for. */
  readonly audience: string;
  /** The API that machines' access tokens are for. */
  readonly machineAudience: string;
  readonly people: readonly Person[];
  readonly clients: Map<string, Client>;
  /** Where its endpoints are for clients that bring a certificate; absent where there is no TLS. */
  readonly secureOrigin?: string;
  readonly lifetimes: Lifetimes;
  readonly now: () => number;
  readonly keys: SigningKeys;
  readonly pending: Map<string, PendingRequest>;
  /** Parameters of pushed requests by their request_uri. */
  readonly pushed: Map<string, URLSearchParams>;
  readonly devices: Map<string, DeviceCode>;
  /** The nonce that proofs of possession have to carry (RFC 9449 section 8), and the IDs of those that were used. */
  readonly dpopNonce: string;
  readonly proofs: Set<string>;
  /** IDs of client assertions that were used. */
  readonly assertions: Set<string>;
  readonly codes: Map<string, IssuedCode>;
  /** By every refresh token ever issued, so that a spent one is recognised. */
  readonly refreshTokens: Map<string, Family>;
  /** Proves possession for the tokens that a test wishes for. */
  readonly prover: Prover;
  /** Claims of the access tokens that nobody else can read. */
  readonly opaqueTokens: Map<string, Readonly<Record<string, unknown>>>;
  /** Families by the ID of their access tokens. */
  readonly accessTokens: Map<string, Family>;
  /** Who is signed in at Quayside ID itself, by cookie value. */
  readonly browsers: Map<string, ProviderSession>;
  /** Played for everybody, until changed. */
  rehearsal: RehearsalName | undefined;
  /** Aborts when the practice ends, so that slow answers do not outlive it. */
  readonly ended: AbortSignal;
}

export function sha256(text: string): Buffer {
  return createHash("sha256").update(text).digest();
}

/** Stands in the metadata of a provider with organisations where the organisation's name stands in its tokens. */
export const organisationPlaceholder = "{organisation}";

/** The issuer of tokens about a person, or of a provider that does not know yet whom it will be about. */
export function issuerOf({ issuer, hasOrganisations }: QuaysideState, person?: Person): string {
  return hasOrganisations ? `${issuer}/${person?.organisation ?? organisationPlaceholder}` : issuer;
}

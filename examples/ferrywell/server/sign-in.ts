import {
  createSignIn,
  type ConnectionEvent,
  type SignIn,
  type SignInSettings,
  type Store,
} from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import type { Practice } from "tenonsaw-practice";
import { describeEvent, type TraceEvent } from "tenonsaw/trace";

export interface FerrywellSettings {
  readonly origin: string;
  /** Where the practice providers and the practice API are. */
  readonly practice: Pick<Practice, "issuer" | "tidebook" | "harbour" | "lockgate" | "archive" | "ledger">;
  /** Shows problems in full to whoever meets one. Default: yes; it is an example. */
  readonly development?: boolean;
  /** Where sessions live: an SQLite file, or a URL redis://… or postgres://… */
  readonly database: string;
  /** Is told what happens to connections. */
  readonly onConnection?: (event: ConnectionEvent) => void;
  /** Is told one line per leg; leave out to hear nothing. */
  readonly log?: (line: string) => void;
}

/** Ferrywell's sign-in: four providers, one whose accounts are connected, three APIs, one store. Secrets come from the environment. */
export async function openSignIn(
  settings: FerrywellSettings,
): Promise<{ readonly signIn: SignIn; readonly store: Store }> {
  const { log, practice, onConnection } = settings;
  const client = { clientId: "ferrywell", clientSecret: { env: "QUAYSIDE_SECRET" } } as const;
  const store = await openStore(settings.database);
  const signIn = await createSignIn({
    origin: settings.origin,
    keys: { env: "FERRYWELL_KEYS" },
    store,
    providers: {
      quayside: {
        title: "Quayside ID",
        issuer: practice.issuer,
        ...client,
        scope: "openid profile email offline_access tides.read",
      },
      // Many organisations, each an issuer of its own; the club lets in its own members only.
      harbour: {
        title: "Harbour Union",
        issuer: `${practice.harbour}/{organisation}`,
        ...client,
        scope: "openid profile email",
        deviations: {
          metadataUrl: `${practice.harbour}/common/.well-known/openid-configuration`,
          tenants: { placeholder: "{organisation}", admitted: ["rowing-club"] },
        },
      },
      // Plain OAuth 2.0, and odd in several ways, each of which is said here.
      lockgate: {
        title: "Lockgate Permits",
        issuer: practice.lockgate,
        ...client,
        clientAuthentication: "client_secret_post",
        scope: "permits.read",
        discovery: "none",
        metadata: {
          authorizationEndpoint: `${practice.lockgate}/oauth/authorize`,
          tokenEndpoint: `${practice.lockgate}/oauth/token`,
          userinfoEndpoint: `${practice.lockgate}/api/whoami`,
        },
        profile: {
          subject: "/account/number",
          name: "/account/display/full",
          email: "/account/contact/0/mail",
        },
        deviations: {
          noIdToken: true,
          formEncodedTokenAnswer: true,
          errorInside200: true,
          tokenTypeAbsent: true,
          scopeSeparator: ",",
          keepCallbackParameters: ["office"],
        },
      },
      // OAuth 1.0a: every request signed, nothing to refresh.
      archive: {
        protocol: "oauth1",
        title: "Old Wharf Archive",
        issuer: practice.archive,
        ...client,
        signatureMethod: "HMAC-SHA256",
        temporaryCredentialsEndpoint: `${practice.archive}/initiate`,
        authorizationEndpoint: `${practice.archive}/authorize`,
        tokenEndpoint: `${practice.archive}/token`,
        userinfoEndpoint: `${practice.archive}/api/me`,
        profile: { subject: "/card/number", name: "/card/holder", email: "/mail" },
        declinedParameter: "denied",
      },
      // An accounting service: nobody signs in with it, its companies are connected.
      ledgerhouse: {
        title: "Ledgerhouse",
        issuer: practice.ledger,
        ...client,
        scope: "books.read offline",
        discovery: "none",
        metadata: {
          authorizationEndpoint: `${practice.ledger}/oauth/authorize`,
          tokenEndpoint: `${practice.ledger}/oauth/token`,
          revocationEndpoint: `${practice.ledger}/oauth/revoke`,
          userinfoEndpoint: `${practice.ledger}/api/me`,
        },
        profile: { subject: "/userId" },
        deviations: { noIdToken: true, keepCallbackParameters: ["company"] },
      },
    },
    connections: {
      ledgerhouse: {
        scopeWords: {
          "books.read": "read the books",
          "books.write": "write into the books",
          offline: "also while you are away",
        },
        // The callback names the company; the API says whether that is so, and what it is called.
        account: {
          parameter: "company",
          confirmedBy: { api: "ledger", path: "/api/company" },
          name: "/title",
        },
      },
    },
    apis: {
      tidebook: {
        provider: "quayside",
        origin: practice.tidebook,
        sample: "/tides/today",
        relay: ["/tides/*", "/slots", "POST,DELETE /slots/*"],
      },
      ledger: {
        provider: "ledgerhouse",
        origin: practice.ledger,
        sample: "/api/company",
        relay: ["/api/invoices", "POST /api/invoices", "POST /api/receipts"],
      },
      boxes: { provider: "archive", origin: practice.archive },
    },
    pages: { declined: "/changed-your-mind" },
    development: settings.development ?? true,
    ...(onConnection && { onConnection }),
    ...(log && { trace: tellLegs(log) }),
  });
  return { signIn, store };
}

async function openStore(place: string): Promise<Store> {
  if (/^rediss?:/.test(place)) return (await import("tenonsaw/stores/redis")).openRedisStore(place);
  if (/^postgres(ql)?:/.test(place))
    return (await import("tenonsaw/stores/postgres")).openPostgresStore(place);
  return openSqliteStore(place);
}

/** One readable line for each leg and each thing that happened; a check only when it fails. */
function tellLegs(log: (line: string) => void): NonNullable<SignInSettings["trace"]> {
  return (event: TraceEvent) => {
    if (event.kind !== "way" && (event.kind !== "check" || event.verdict === "failed"))
      log(describeEvent(event));
  };
}

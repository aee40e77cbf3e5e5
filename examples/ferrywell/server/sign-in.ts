import { createSignIn, type SignIn, type SignInSettings, type Store } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { describeEvent, type TraceEvent } from "tenonsaw/trace";

export interface FerrywellSettings {
  readonly origin: string;
  readonly issuer: string;
  readonly tidebook: string;
  /** SQLite file. */
  readonly database: string;
  /** Is told one line per leg; leave out to hear nothing. */
  readonly log?: (line: string) => void;
}

/** Ferrywell's sign-in: one provider, one API, one SQLite file. Secrets come from the environment. */
export async function openSignIn(
  settings: FerrywellSettings,
): Promise<{ readonly signIn: SignIn; readonly store: Store }> {
  const { log } = settings;
  const store = await openSqliteStore(settings.database);
  const signIn = await createSignIn({
    origin: settings.origin,
    keys: { env: "FERRYWELL_KEYS" },
    store,
    providers: {
      quayside: {
        title: "Quayside ID",
        issuer: settings.issuer,
        clientId: "ferrywell",
        clientSecret: { env: "QUAYSIDE_SECRET" },
        scope: "openid profile email offline_access tides.read",
      },
    },
    apis: { tidebook: { provider: "quayside", origin: settings.tidebook } },
    pages: { declined: "/changed-your-mind" },
    development: true,
    ...(log && { trace: tellLegs(log) }),
  });
  return { signIn, store };
}

/** One readable line for each leg and each thing that happened; a check only when it fails. */
function tellLegs(log: (line: string) => void): NonNullable<SignInSettings["trace"]> {
  return (event: TraceEvent) => {
    if (event.kind !== "check" || event.verdict === "failed") log(describeEvent(event));
  };
}

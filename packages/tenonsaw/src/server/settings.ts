import * as v from "valibot";
import { isSecureUrl, type Platform } from "../platform/index.js";
import { parseSettings, providerSettings, secretReference } from "../provider/index.js";
import type { Store } from "../session/index.js";
import type { Trace } from "../trace/index.js";

const origin = v.pipe(
  v.string(),
  v.check(isSecureUrl, "must be an https origin (http only on loopback: localhost, 127.0.0.1, [::1])"),
  v.check(
    (text) => !URL.canParse(text) || new URL(text).origin === text,
    "must be an origin: no path, no slash at the end",
  ),
);
const ownPath = v.pipe(
  v.string(),
  v.regex(/^\/(?![/\\])[!-~]*$/, "must be a path of this app, such as /welcome"),
);
const routeName = v.pipe(v.string(), v.regex(/^[a-z0-9-]+$/, "must be a name of a-z, 0-9 and -"));

/** The part of the settings that is plain data, as it can stand in a file. */
export const signInSettings = v.strictObject({
  /** Where browsers see this app: scheme, host and port. */
  origin,
  /** The path under which the sign-in routes live. */
  basePath: v.optional(
    v.pipe(v.string(), v.regex(/^(\/[A-Za-z0-9._~-]+)+$/, "must be a path such as /sign-in")),
    "/sign-in",
  ),
  /**
   * Sealing keys: 32 bytes each in base64url, separated by commas, the current one first; or `{ env }`, the
   * environment variable that holds them. Default: TENONSAW_KEYS.
   */
  keys: v.optional(
    v.union(
      [v.pipe(v.string(), v.minLength(1)), secretReference],
      "must be a non-empty text or { env: NAME }",
    ),
    { env: "TENONSAW_KEYS" },
  ),
  /** The providers by name. The name is part of the routes. */
  providers: v.pipe(
    v.record(
      routeName,
      v.strictObject({
        ...providerSettings.entries,
        /** What people see: "Sign in with <title>". Default: the name. */
        title: v.optional(v.pipe(v.string(), v.minLength(1, "must not be empty"))),
      }),
    ),
    v.check((providers) => Object.keys(providers).length > 0, "must name at least one provider"),
  ),
  /** The APIs by name: whose tokens they take, and the one origin these may be sent to. */
  apis: v.optional(v.record(v.string(), v.strictObject({ provider: v.string(), origin })), {}),
  /** The app's own pages, in place of the built-in ones. */
  pages: v.optional(
    v.strictObject({
      /** Gets `returnTo`; offers links to `<basePath>/to/<provider>`. */
      chooser: v.optional(ownPath),
      /** For somebody who changed their mind; gets `returnTo`. */
      declined: v.optional(ownPath),
      /** Gets `problem`, the code. */
      failed: v.optional(ownPath),
      /** Where sign-out ends. Default: `/`. */
      signedOut: v.optional(ownPath, "/"),
    }),
    {},
  ),
  /** How long a session lasts, in seconds. Default: seven days. */
  sessionLifetimeSeconds: v.optional(
    v.pipe(v.number(), v.integer(), v.minValue(1, "must be at least 1")),
    604_800,
  ),
  /** Shows problems in full on the failure page. Never in production: it tells visitors too much. */
  development: v.optional(v.boolean(), false),
});

type SettingsData = v.InferInput<typeof signInSettings>;
export type ResolvedSignInSettings = v.InferOutput<typeof signInSettings>;

/** Settings of a server app. */
export interface SignInSettings extends SettingsData {
  readonly store: Store | Promise<Store>;
  /** Is told every leg and check. */
  readonly trace?: Trace;
  /** Replaces the clock, fetch, randomness or cryptography. */
  readonly platform?: Platform;
}

/** @throws provider.settings-refused */
export function readSignInSettings(data: unknown): ResolvedSignInSettings {
  const settings = parseSettings(signInSettings, data);
  const unknown = Object.entries(settings.apis).filter(
    ([, api]) => !Object.hasOwn(settings.providers, api.provider),
  );
  if (unknown.length > 0) {
    // Said in the words of the schema, so that it reads like every other finding.
    const known = v.picklist(
      Object.keys(settings.providers),
      `must be one of the providers: ${Object.keys(settings.providers).join(", ")}`,
    );
    parseSettings(v.object({ apis: v.record(v.string(), v.object({ provider: known })) }), settings);
  }
  return settings;
}

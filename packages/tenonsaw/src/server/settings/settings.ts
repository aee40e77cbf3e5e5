import ipaddr from "ipaddr.js";
import * as v from "valibot";
import { isSecureUrl, type Platform } from "../../platform/index.js";
import type { ConnectionEvent } from "../../connection/index.js";
import type { Identity } from "../../identity/index.js";
import { oauth1Entries, oauth1Settings } from "../../oauth1/index.js";
import { isProblem, fail } from "../../problem/index.js";
import {
  parseSettings,
  providerEntries,
  providerSettings,
  secretReference,
  secureUrl,
} from "../../provider/index.js";
import type { Store } from "../../session/index.js";
import type { BrowserStore } from "../../stores/cookie.js";
import type { Trace } from "../../trace/index.js";
import { textSettings } from "./text-settings.js";

const originText = v.pipe(
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
const address = v.pipe(
  v.string(),
  v.check(
    (text) => (text.includes("/") ? ipaddr.isValidCIDR(text) : ipaddr.isValid(text)),
    "must be an IP address or a range such as 10.0.0.0/8",
  ),
);
const proxyEntries = {
  /** Which header they write: Forwarded (RFC 7239), or X-Forwarded-For, -Proto and -Host. The other is ignored. */
  header: v.picklist(["forwarded", "x-forwarded"], 'must be "forwarded" or "x-forwarded"'),
  /** The proxies' own addresses. */
  addresses: v.optional(v.pipe(v.array(address), v.minLength(1, "must not be empty"))),
  /** Or how many of them there always are, where their addresses are not known. */
  hops: v.optional(v.pipe(v.number(), v.integer(), v.minValue(1, "must be at least 1"))),
  /** Further origins at which browsers see this app. */
  otherOrigins: v.optional(v.array(originText), []),
};
const routeName = v.pipe(
  v.string(),
  v.regex(/^[a-z0-9-]{1,32}$/, "must be a name of a-z, 0-9 and -, at most 32 characters"),
);
const apiEntries = {
  /** Name of the provider whose tokens the API takes. */
  provider: v.string(),
  /** The one origin these tokens may be sent to. */
  origin: originText,
  /** Where it takes an access token of its own, by the same refresh token: a part of what was granted. */
  scope: v.optional(v.pipe(v.string(), v.minLength(1, "must not be empty"))),
  /** The same: how the provider calls the API (RFC 8707). */
  resource: v.optional(secureUrl),
  /** The same, at providers that call it audience. */
  audience: v.optional(v.pipe(v.string(), v.minLength(1, "must not be empty"))),
  /** Claims it insists on, such as the one that tells a token's format: `tenonsaw explain --against` compares them. */
  tokenClaims: v.optional(v.record(v.string(), v.union([v.string(), v.number(), v.boolean()])), {}),
  /** What the app itself may do there, without a person: the scope of its client credentials. */
  clientScope: v.optional(v.pipe(v.string(), v.minLength(1, "must not be empty"))),
};
const pageEntries = {
  /** Gets `returnTo`; offers links to `<basePath>/to/<provider>`. */
  chooser: v.optional(ownPath),
  /** For somebody who changed their mind; gets `returnTo`. */
  declined: v.optional(ownPath),
  /** Gets `problem`, the code. */
  failed: v.optional(ownPath),
  /** Where sign-out ends. Default: `/`. */
  signedOut: v.optional(ownPath, "/"),
  /** Origins whose pages may show the built-in pages in a frame. Default: none. */
  frameAncestors: v.optional(v.pipe(v.array(originText), v.minLength(1, "must not be empty"))),
};

const signOutEntries = {
  /** Goes on to the provider's own sign-out, where it has one. */
  atProvider: v.optional(v.boolean(), true),
  /** Takes the tokens back (RFC 7009), where the provider can; also where a session is ended in another way. */
  revokeTokens: v.optional(v.boolean(), true),
};

const seconds = v.pipe(v.number(), v.integer(), v.minValue(1, "must be at least 1"));
const kindEntries = {
  /** How long such a session lasts. */
  lifetimeSeconds: seconds,
  /** Ends it earlier when it is not used for so many seconds. Default: it lasts to its end. */
  idleSeconds: v.optional(seconds),
  /** Whether it also ends when the browser is closed, as on a computer that several people use. */
  endsWithBrowser: v.optional(v.boolean(), false),
};

const cssValue = v.pipe(v.string(), v.regex(/^[\w\s#%.,()'"+*/-]{1,200}$/, "must be a CSS value"));
const themeEntries = {
  surface: v.optional(cssValue),
  ink: v.optional(cssValue),
  /** Borders of what is there to be read, and of what can be pressed. */
  line: v.optional(cssValue),
  accent: v.optional(cssValue),
  /** Radius of corners. */
  corner: v.optional(cssValue),
  font: v.optional(cssValue),
};

const entries = {
  /** Where browsers see this app: scheme, host and port. */
  origin: originText,
  /**
   * Proxies before this app, where the origin of a request is to be taken from what they say: it has to be `origin` or
   * one of `otherOrigins`. Without them `origin` holds for every request, and no such header is looked at.
   */
  proxies: v.optional(
    v.pipe(
      v.strictObject(proxyEntries),
      v.check(
        ({ addresses, hops }) => (addresses === undefined) !== (hops === undefined),
        "must name the proxies by addresses or by hops, one of the two",
      ),
    ),
  ),
  /**
   * What the names of this app's cookies begin with. Two apps on one host need two: browsers send cookies to all ports.
   * Default: `tenonsaw`.
   */
  cookiePrefix: v.optional(
    v.pipe(v.string(), v.regex(/^[A-Za-z][A-Za-z0-9-]{0,31}$/, "must be letters, digits and -")),
    "tenonsaw",
  ),
  /** The path under which the sign-in routes live. */
  basePath: v.optional(
    v.pipe(v.string(), v.regex(/^(\/[A-Za-z0-9._~-]+)+$/, "must be a path such as /sign-in")),
    "/sign-in",
  ),
  /**
   * Sealing keys: 32 bytes each in base64url, separated by commas, the current one first; or where they are to be
   * found. Default: the environment variable TENONSAW_KEYS.
   */
  keys: v.optional(
    v.union(
      [v.pipe(v.string(), v.minLength(1)), ...secretReference.options],
      "must be a non-empty text, { env: NAME } or { file: PATH }",
    ),
    { env: "TENONSAW_KEYS" },
  ),
  /** The providers by name. The name is part of the routes. */
  providers: v.record(routeName, providerSettings),
  /** Those of them whose `protocol` is oauth1; in settings they stand among the others. */
  oauth1Providers: v.optional(v.record(routeName, oauth1Settings), {}),
  /** The APIs by name: whose tokens they take, and the one origin these may be sent to. */
  apis: v.optional(v.record(v.string(), v.strictObject(apiEntries)), {}),
  /** The app's own pages, in place of the built-in ones. */
  pages: v.optional(v.strictObject(pageEntries), {}),
  /** The look of the built-in pages: CSS values; `light-dark()` tells light from dark. */
  theme: v.optional(v.strictObject(themeEntries), {}),
  /** What the built-in pages say, by language: in place of English and German, or in further languages. */
  texts: v.optional(textSettings, {}),
  /** What goes with the session when somebody signs out. */
  signOut: v.optional(v.strictObject(signOutEntries), {}),
  /** How long a session lasts, in seconds. Default: seven days. */
  sessionLifetimeSeconds: v.optional(seconds, 604_800),
  /** Ends a session earlier that is not used for so many seconds. Default: it lasts to its end. */
  sessionIdleSeconds: v.optional(seconds),
  /**
   * Kinds of session with limits of their own, such as one that stays on a person's own device: a sign-in that begins
   * with `?kind=<name>` ends in one.
   */
  sessionKinds: v.optional(v.record(routeName, v.strictObject(kindEntries)), {}),
  /**
   * For how many seconds a process may remember a session, so that most requests read nothing from the store; for as
   * long a session that was ended elsewhere goes on. Default: each request reads.
   */
  sessionCacheSeconds: v.optional(v.pipe(seconds, v.maxValue(300, "must be at most 300"))),
  /** Shows problems in full on the failure page. Never in production: it tells visitors too much. */
  development: v.optional(v.boolean(), false),
};

/** The part of the settings that is plain data, for one environment. */
export const signInSettings = v.strictObject(entries);

const { oauth1Providers: _split, ...sharedEntries } = v.partial(signInSettings).entries;
const partialEntries = {
  ...sharedEntries,
  providers: v.optional(
    v.record(
      routeName,
      v.partial(
        v.strictObject({
          ...oauth1Entries,
          ...providerEntries,
          /** Default: OAuth 2.0 and OpenID Connect. */
          protocol: v.picklist(["oauth1", "oauth2"], 'must be "oauth1" or "oauth2"'),
        }),
      ),
    ),
  ),
  apis: v.optional(v.record(v.string(), v.partial(v.strictObject(apiEntries)))),
};

/** The settings as they stand in code or in a file: what all environments share, and what each has of its own. */
export const environmentSettings = v.strictObject({
  /** Address of the JSON Schema, for editors. */
  $schema: v.optional(v.string()),
  /** Which of the environments holds. The environment variable TENONSAW_ENV goes before it. */
  environment: v.optional(v.string()),
  /** What differs between environments, such as sandbox and production. */
  environments: v.optional(
    v.record(
      routeName,
      v.strictObject({
        /** Marks what real people use: literal secrets and `development` are refused there. */
        production: v.optional(v.boolean()),
        ...partialEntries,
      }),
    ),
  ),
  ...partialEntries,
});

/** Where settings that were read from a file stand in it, by name; goes along when they are spread. */
export const settingPlaces = Symbol("places of settings");
export type SettingPlaces = Readonly<Record<"origin" | "proxies", string>>;

export type SettingsData = v.InferInput<typeof environmentSettings>;
export type ResolvedSignInSettings = v.InferOutput<typeof signInSettings>;

/** Somebody who is about to be signed in. */
export interface Visit {
  /** Name of the provider. */
  readonly provider: string;
  readonly identity: Identity;
  /** Whose the identity is; absent at a first visit. */
  readonly personId?: string;
}

/** What the app makes of a visit. */
export type Welcome =
  | {
      /**
       * At a first visit: what the person is called in the app's own user table. The identity is theirs from now on. Look
       * for issuer and subject there, never for an e-mail address: whoever may choose one at any provider would get in.
       */
      readonly personId?: string;
      /** The page they are taken to first, such as one that asks for what the provider did not tell; gets `returnTo`. */
      readonly page?: string;
    }
  /** Why not: for the trace; the visitor learns only that it did not work. */
  | { readonly refused: string };

/** Settings of a server app. */
export interface SignInSettings extends SettingsData {
  readonly [settingPlaces]?: SettingPlaces;
  /** Where sessions are kept: on the server, or in their browsers (`createCookieStore`, which says what that costs). */
  readonly store: Store | BrowserStore | Promise<Store>;
  /**
   * Is asked at every sign-in, before there is a session: refuses it; says, at a first visit, what the person is called in
   * a user table of the app's own; or names a page that is to ask them for more. Default: everybody is welcome. Two first
   * visits of one identity at the same moment are asked about once in one process, and may be asked about twice where there
   * are several processes: of two names the first one written holds.
   */
  readonly welcome?: (visit: Visit) => Welcome | Promise<Welcome>;
  /**
   * Is asked before a request is answered that begins or ends a sign-in, or tells of a sign-out: so many seconds until the
   * next is, or undefined for at once. Default: 600 such requests a minute from one peer with a public address.
   *
   * @param peer the address it comes from: as the outermost of `proxies` saw it, or this process; where that is known
   */
  readonly limitRate?: (
    request: Request,
    peer: string | undefined,
  ) => number | undefined | Promise<number | undefined>;
  /** Is told what happens to connections: renewed, or in need of the person's consent. */
  readonly onConnection?: (event: ConnectionEvent) => void;
  /** Is told every leg and check. */
  readonly trace?: Trace;
  /** Replaces the clock, fetch, randomness or cryptography. */
  readonly platform?: Platform;
}

/**
 * Validates settings whose environment has been chosen already.
 *
 * @throws provider.settings-refused
 */
export function readSignInSettings(data: unknown): ResolvedSignInSettings {
  const settings = parseSplit(data);
  const names = [...Object.keys(settings.providers), ...Object.keys(settings.oauth1Providers)];
  if (names.length === 0) {
    const findings = [{ path: "providers", message: "must name at least one provider" }];
    fail("provider.settings-refused", { received: "one mistake", findings });
  }
  const known = v.picklist(names, `must be one of the providers: ${names.join(", ")}`);
  // Said in the words of the schema, so that it reads like every other finding.
  parseSettings(v.object({ apis: v.record(v.string(), v.object({ provider: known })) }), settings);
  return settings;
}

/** Each provider by the schema of its protocol; findings name it where it stands. */
function parseSplit(data: unknown): ResolvedSignInSettings {
  try {
    return parseSettings(signInSettings, splitProviders(data));
  } catch (error) {
    if (!isProblem(error, "provider.settings-refused")) throw error;
    const { findings = [], received = "" } = error.problem;
    fail("provider.settings-refused", {
      received,
      findings: findings.map((each) => ({
        ...each,
        path: each.path.replace(/^oauth1Providers\b/, "providers"),
      })),
      cause: error,
    });
  }
}

/** The way back: settings that were read once already stand for those they were read from. */
export function joinProviders(data: unknown): unknown {
  if (typeof data !== "object" || data === null || !("oauth1Providers" in data)) return data;
  const { oauth1Providers, ...rest } = data as Record<string, object | undefined>;
  return { ...rest, providers: { ...rest["providers"], ...oauth1Providers } };
}

function splitProviders(data: unknown): unknown {
  if (typeof data !== "object" || data === null || !("providers" in data)) return data;
  const { providers } = data;
  if (typeof providers !== "object" || providers === null) return data;
  const protocolOf = (value: unknown) => (value as { protocol?: unknown } | null)?.protocol;
  const all = Object.entries(providers) as [string, unknown][];
  const oauth2 = all
    .filter(([, value]) => protocolOf(value) !== "oauth1")
    .map(([name, value]) => {
      if (protocolOf(value) !== "oauth2") return [name, value];
      const { protocol: _default, ...rest } = value as Record<string, unknown>;
      return [name, rest];
    });
  return {
    ...data,
    providers: Object.fromEntries(oauth2) as unknown,
    oauth1Providers: Object.fromEntries(all.filter(([, value]) => protocolOf(value) === "oauth1")),
  };
}

import ipaddr from "ipaddr.js";
import * as v from "valibot";
import { oauth1Entries, oauth1Settings } from "../../oauth1/index.js";
import { isProblem, fail, quoted, type ProblemFinding } from "../../problem/index.js";
import {
  bareText,
  baseOf,
  isHost,
  originText,
  parseSettings,
  refuseSettings,
  pointers,
  providerEntries,
  providerSettings,
  scopes,
  secretReference,
  secureUrl,
  words,
} from "../../provider/index.js";
import { isRelayRule } from "./relay-rules.js";
import type { ResolvedSignInSettings } from "./settings-types.js";
import { textSettings } from "./text-settings.js";

const pathOf = (message: string) => v.pipe(v.string(), v.regex(/^\/(?![/\\])[!-~]*$/, message));
const ownPath = pathOf("must be a path of this app, such as /welcome");
const apiPath = pathOf("must be a path at the API, such as /tides/today");
const address = v.pipe(
  v.string(),
  v.check(
    (text) => (text.includes("/") ? ipaddr.isValidCIDR(text) : ipaddr.isValid(text)),
    "must be an IP address or a range such as 10.0.0.0/8",
  ),
);
const proxyEntries = {
  header: v.picklist(["forwarded", "x-forwarded"], 'must be "forwarded" or "x-forwarded"'),
  addresses: v.optional(v.pipe(v.array(address), v.minLength(1))),
  hops: v.optional(v.pipe(v.number(), v.integer(), v.minValue(1))),
  otherOrigins: v.optional(v.array(originText), []),
};
const routeName = v.pipe(
  v.string(),
  v.regex(/^[a-z0-9-]{1,32}$/, "must be a name of a-z, 0-9 and -, at most 32 characters"),
);
const apiEntries = {
  provider: v.string(),
  origin: v.optional(originText),
  scope: v.optional(scopes),
  resource: v.optional(secureUrl),
  audience: v.optional(bareText),
  tokenClaims: v.optional(v.record(v.string(), v.union([bareText, v.number(), v.boolean()])), {}),
  clientScope: v.optional(scopes),
  sample: v.optional(apiPath),
  relay: v.optional(
    v.array(
      v.pipe(
        v.string(),
        v.check(
          (rule) => isRelayRule(rule),
          "must be a path such as /tides/*, or methods and a path, such as POST,DELETE /slots/*",
        ),
      ),
    ),
    [],
  ),
};
const connectionEntries = {
  alsoForSignIn: v.optional(v.boolean(), false),
  scope: v.optional(scopes),
  account: v.optional(
    v.strictObject({
      parameter: v.optional(bareText),
      confirmedBy: v.optional(v.strictObject({ api: v.string(), path: apiPath })),
      id: v.optional(pointers),
      name: v.optional(pointers),
    }),
  ),
  scopeWords: v.optional(v.record(v.string(), words), {}),
  shared: v.optional(v.boolean(), true),
};
const pageEntries = {
  chooser: v.optional(ownPath),
  declined: v.optional(ownPath),
  failed: v.optional(ownPath),
  signedIn: v.optional(ownPath),
  launched: v.optional(ownPath),
  signedOut: v.optional(ownPath),
  frameAncestors: v.optional(v.pipe(v.array(originText), v.minLength(1))),
};

const signOutEntries = {
  atProvider: v.optional(v.boolean(), true),
  revokeTokens: v.optional(v.boolean(), true),
};

const seconds = v.pipe(v.number(), v.integer(), v.minValue(1));
const days400 =
  "must be at most 34560000, 400 days: no browser keeps a cookie longer; milliseconds are no unit here";
const lifetime = v.pipe(seconds, v.maxValue(34_560_000, days400));
const kindEntries = {
  lifetimeSeconds: lifetime,
  idleSeconds: v.optional(lifetime),
  endsWithBrowser: v.optional(v.boolean(), false),
};

const cssValue = v.pipe(v.string(), v.regex(/^[\w\s#%.,()'"+*/-]{1,200}$/, "must be a CSS value"));
const themeEntries = {
  surface: v.optional(cssValue),
  ink: v.optional(cssValue),
  line: v.optional(cssValue),
  accent: v.optional(cssValue),
  corner: v.optional(cssValue),
  font: v.optional(cssValue),
};

const entries = {
  origin: originText,
  proxies: v.optional(
    v.pipe(
      v.strictObject(proxyEntries),
      v.check(
        ({ addresses, hops }) => (addresses === undefined) !== (hops === undefined),
        "must name the proxies by addresses or by hops, one of the two",
      ),
    ),
  ),
  cookiePrefix: v.optional(
    v.pipe(v.string(), v.regex(/^[A-Za-z][A-Za-z0-9-]{0,31}$/, "must be letters, digits and -")),
    "tenonsaw",
  ),
  basePath: v.optional(
    v.pipe(
      v.string(),
      v.regex(
        /^(\/(?!\.{1,2}(\/|$))[\w.~-]+)+$/,
        "must be a path such as /sign-in, of letters a-z, digits and -._~, with no slash at its end",
      ),
    ),
    "/sign-in",
  ),
  keys: v.optional(
    v.union(
      [v.pipe(v.string(), v.minLength(1)), ...secretReference.options],
      "must be a non-empty text, { env: NAME } or { file: PATH }",
    ),
    { env: "TENONSAW_KEYS" },
  ),
  providers: v.record(routeName, providerSettings),
  oauth1Providers: v.optional(v.record(routeName, oauth1Settings), {}),
  apis: v.optional(v.record(v.string(), v.strictObject(apiEntries)), {}),
  connections: v.optional(v.record(routeName, v.strictObject(connectionEntries)), {}),
  pages: v.optional(v.strictObject(pageEntries), {}),
  theme: v.optional(v.strictObject(themeEntries), {}),
  texts: v.optional(textSettings, {}),
  signOut: v.optional(v.strictObject(signOutEntries), {}),
  sessionLifetimeSeconds: v.optional(lifetime, 604_800),
  sessionIdleSeconds: v.optional(lifetime),
  sessionKinds: v.optional(v.record(routeName, v.strictObject(kindEntries)), {}),
  sessionCacheSeconds: v.optional(v.pipe(seconds, v.maxValue(300))),
  sessionEventsSeconds: v.optional(v.pipe(seconds, v.maxValue(300))),
  toldToPages: v.optional(
    v.array(
      v.picklist(
        ["id", "name", "email", "picture", "claims"],
        "must be one of id, name, email, picture and claims",
      ),
    ),
    ["name"],
  ),
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
          protocol: v.picklist(["oauth1", "oauth2"], 'must be "oauth1" or "oauth2"'),
        }),
      ),
    ),
  ),
  apis: v.optional(v.record(v.string(), v.partial(v.strictObject(apiEntries)))),
  connections: v.optional(v.record(routeName, v.partial(v.strictObject(connectionEntries)))),
};

/** The settings as they stand in code or in a file: what all environments share, and what each has of its own. */
export const environmentSettings = v.strictObject({
  $schema: v.optional(v.string()),
  environment: v.optional(v.string()),
  environments: v.optional(
    v.record(
      routeName,
      v.strictObject({
        production: v.optional(v.boolean()),
        ...partialEntries,
      }),
    ),
  ),
  ...partialEntries,
});

/**
 * Validates settings whose environment has been chosen already.
 *
 * @throws provider.settings-refused
 */
export function readSignInSettings(data: unknown): ResolvedSignInSettings {
  const parsed = parseSplit(data);
  // The app is where its sign-in is: under the same sub-path.
  const home = parsed.basePath.slice(0, parsed.basePath.lastIndexOf("/")) || "/";
  const { signedIn = home, signedOut = home, launched = signedIn } = parsed.pages;
  const contradictions = [...pagesAtRoutes(parsed), ...idleBeyondEnd(parsed)];
  if (contradictions.length > 0) refuseSettings(...contradictions);
  const names = [...Object.keys(parsed.providers), ...Object.keys(parsed.oauth1Providers)];
  if (names.length === 0) refuseSettings({ path: "providers", message: "must name at least one provider" });
  const known = v.picklist(
    names,
    ({ input }) => `must be one of the providers: ${names.join(", ")}, and is ${quoted(input, 40)}`,
  );
  // Said in the words of the schema, so that it reads like every other finding.
  parseSettings(v.object({ apis: v.record(v.string(), v.object({ provider: known })) }), parsed);
  const settings: ResolvedSignInSettings = {
    ...parsed,
    pages: { ...parsed.pages, launched, signedIn, signedOut },
    apis: withOrigins(parsed),
  };
  const findings = Object.entries(settings.connections).flatMap(([name, each]) =>
    findConnectionMistakes(settings, names, name, each),
  );
  for (const [name, api] of Object.entries(settings.apis))
    for (const member of ["scope", "resource", "audience", "clientScope"] as const)
      if (api[member] !== undefined && Object.hasOwn(settings.oauth1Providers, api.provider))
        findings.push({ path: `apis.${name}.${member}`, message: nothingOfOAuth1 });
  if (findings.length > 0)
    fail("provider.settings-refused", { received: "what connections and apis say", findings });
  return settings;
}

type Parsed = v.InferOutput<typeof signInSettings>;

/** The sign-in routes lead to these pages: one that is such a route itself leads round in a circle, or signs in whoever signs out. */
function pagesAtRoutes({ pages: { frameAncestors: _, ...pages }, basePath }: Parsed): ProblemFinding[] {
  return Object.entries(pages).flatMap(([name, page]) => {
    const [path = ""] = (page ?? "").split(/[?#]/, 1);
    const at = `pages.${name}`;
    if (name === "chooser" && path === basePath)
      return [{ path: at, message: "must be another page than basePath, which leads to it" }];
    return path.startsWith(`${basePath}/`)
      ? [{ path: at, message: `must be a page of the app's own, and is below basePath, ${basePath}` }]
      : [];
  });
}

/** A session that ends before it can be idle for so long has no such limit. */
function idleBeyondEnd({
  sessionIdleSeconds,
  sessionLifetimeSeconds,
  sessionKinds,
}: Parsed): ProblemFinding[] {
  const judge = (path: string, idle = 0, of: string, most: number) =>
    idle > most ? [{ path, message: `must be at most ${of}, which is ${most}, and is ${idle}` }] : [];
  return [
    ...judge("sessionIdleSeconds", sessionIdleSeconds, "sessionLifetimeSeconds", sessionLifetimeSeconds),
    ...Object.entries(sessionKinds).flatMap(([name, { idleSeconds, lifetimeSeconds }]) =>
      judge(`sessionKinds.${name}.idleSeconds`, idleSeconds, "lifetimeSeconds", lifetimeSeconds),
    ),
  ];
}

/**
 * An API at a host is where the host is.
 *
 * @throws provider.settings-refused for an origin that is missing, or that is given and not the host's
 */
function withOrigins({
  apis,
  providers,
}: Pick<v.InferOutput<typeof signInSettings>, "apis" | "providers">): ResolvedSignInSettings["apis"] {
  const findings: ProblemFinding[] = [];
  const read = Object.entries(apis).map(([name, { origin, ...api }]) => {
    const provider = Object.hasOwn(providers, api.provider) ? providers[api.provider] : undefined;
    const base = provider && isHost(provider) ? baseOf(provider) : undefined;
    const own = base === undefined ? undefined : new URL(base).origin;
    if (origin === undefined && own === undefined)
      findings.push({ path: `apis.${name}.origin`, message: "is missing" });
    return [
      name,
      { ...api, origin: origin ?? own ?? "", ...(origin === undefined && base !== undefined && { base }) },
    ] as const;
  });
  if (findings.length > 0) fail("provider.settings-refused", { received: "what apis say", findings });
  return Object.fromEntries(read);
}

const nothingOfOAuth1 = "must be left out with OAuth 1.0a";

/** What connections refer to has to be there, and to agree with it. */
function findConnectionMistakes(
  { apis, providers }: ResolvedSignInSettings,
  names: readonly string[],
  name: string,
  { scope, account: { parameter, confirmedBy } = {} }: ResolvedSignInSettings["connections"][string],
): ProblemFinding[] {
  const at = `connections.${name}`;
  if (!names.includes(name))
    return [{ path: at, message: `must be one of the providers: ${names.join(", ")}` }];
  const kept = providers[name]?.deviations.keepCallbackParameters ?? [];
  return [
    ...(parameter === undefined || kept.includes(parameter)
      ? []
      : [
          {
            path: `${at}.account.parameter`,
            message: `must be in deviations.keepCallbackParameters of ${name} as well`,
          },
        ]),
    ...Object.entries({ scope, "account.confirmedBy": confirmedBy })
      .filter(([, given]) => given !== undefined && !Object.hasOwn(providers, name))
      .map(([member]) => ({ path: `${at}.${member}`, message: nothingOfOAuth1 })),
    ...(confirmedBy === undefined || apis[confirmedBy.api]?.provider === name
      ? []
      : [{ path: `${at}.account.confirmedBy.api`, message: `must be an API of ${name}` }]),
  ];
}

/** Each provider by the schema of its protocol; findings name it where it stands. */
function parseSplit(data: unknown): v.InferOutput<typeof signInSettings> {
  try {
    return parseSettings(signInSettings, splitProviders(data));
  } catch (error) {
    if (!isProblem(error, "provider.settings-refused")) throw error;
    const { findings = [], received = "" } = error.problem;
    fail("provider.settings-refused", {
      received,
      findings: findings.map(({ path, message, ...each }) => ({
        ...each,
        path: path.replace(/^oauth1Providers\b/, "providers"),
        message: /^providers\.[^.]+\.protocol$/.test(path)
          ? 'must be "oauth1" or "oauth2"'
          : message.replace(/ oauth1Providers\..*$/, ' a provider with `protocol: "oauth1"`'),
      })),
    });
  }
}

/** The way back: settings that were read once already stand for those they were read from. */
export function joinProviders(data: unknown): unknown {
  if (typeof data !== "object" || data === null || !("oauth1Providers" in data)) return data;
  const { oauth1Providers, ...rest } = data as Record<string, object | undefined>;
  const apis = Object.entries((rest["apis"] ?? {}) as ResolvedSignInSettings["apis"]).map(
    ([name, { base, origin, ...api }]) => [name, base === undefined ? { ...api, origin } : api],
  );
  return {
    ...rest,
    apis: Object.fromEntries(apis) as unknown,
    providers: { ...rest["providers"], ...oauth1Providers },
  };
}

function splitProviders(data: unknown): unknown {
  if (typeof data !== "object" || data === null || !("providers" in data)) return data;
  const { providers } = data;
  if (typeof providers !== "object" || providers === null || Array.isArray(providers)) return data;
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

import type { ConnectionEvent } from "../../connection/index.js";
import type { Identity } from "../../identity/index.js";
import type { OAuth1Settings, ResolvedOAuth1Settings } from "../../oauth1/index.js";
import type { Platform } from "../../platform/index.js";
import type {
  ProviderSettings,
  Pointers,
  ResolvedProviderSettings,
  SecretReference,
  With,
} from "../../provider/index.js";
import type { Store } from "../../session/index.js";
import type { BrowserStore } from "../../stores/cookie.js";
import type { ProblemReport, Trace } from "../../trace/index.js";

/** What stands before this app, and what of it is believed. */
export interface ProxySettings {
  /** Which header they write: `forwarded` (RFC 7239), or `x-forwarded` for X-Forwarded-For, -Proto and -Host. */
  readonly header: "forwarded" | "x-forwarded";
  /** The proxies' own addresses: IP addresses, or ranges such as 10.0.0.0/8. */
  readonly addresses?: readonly string[] | undefined;
  /** Or how many of them there always are, where their addresses are not known. */
  readonly hops?: number | undefined;
  /** Further origins at which browsers see this app. */
  readonly otherOrigins?: readonly string[] | undefined;
}

/** An API that is called for the person, or by the app itself. */
export interface ApiSettings<ProviderName extends string = string> {
  /** Name of the provider whose tokens the API takes. */
  readonly provider: ProviderName;
  /** The one origin these tokens may be sent to. Left out where the provider is a host: the API is then what opened this app. */
  readonly origin?: string | undefined;
  /** Where it takes an access token of its own, by the same refresh token: a part of what was granted. */
  readonly scope?: string | undefined;
  /** The same: how the provider calls the API, as a URL (RFC 8707). */
  readonly resource?: string | undefined;
  /** The same, at providers that call it audience. */
  readonly audience?: string | undefined;
  /** Claims it insists on, such as the one that tells a token's format: `tenonsaw explain --against` compares them. */
  readonly tokenClaims?: Readonly<Record<string, string | number | boolean>> | undefined;
  /** What the app itself may do there, without a person: the scope of its client credentials. */
  readonly clientScope?: string | undefined;
  /** A path that reads a little and changes nothing, such as `/tides/today`: what *test* calls to see whether calls work. */
  readonly sample?: string | undefined;
  /**
   * What pages may call through the relay, for the person and with their token: paths such as `/tides/*`, for GET and HEAD, or
   * with methods before them, as in `POST,DELETE /slots/*`. `*` stands for one part of a path, `**` at the end for any number.
   * Default: nothing.
   */
  readonly relay?: readonly string[] | undefined;
}

/** A request that tells which account an access token is for. */
export interface ConfirmationSettings {
  /** Name of the API. */
  readonly api: string;
  /** A path there. */
  readonly path: string;
}

/** Which of a person's accounts at a provider a connection is for. Default: the one that the identity names. */
export interface AccountSettings {
  /**
   * The callback's parameter that names the account which the person picked; `deviations.keepCallbackParameters` has to name it,
   * too. The browser brings it: it is taken for the account only where `confirmedBy` agrees, and shown as unconfirmed without.
   */
  readonly parameter?: string | undefined;
  /** A request that is made with the fresh token, before anything is kept: what it answers, JSON, describes the account. */
  readonly confirmedBy?: ConfirmationSettings | undefined;
  /** Where the account's ID is, in that answer, or else in the claims. Default: `/sub`, or with `confirmedBy` `/id`. */
  readonly id?: Pointers | undefined;
  /** Where its name for people is, alike. Default: `/name`. */
  readonly name?: Pointers | undefined;
}

/** How accounts of a provider are connected: kept for the person, beyond the session, so that the app can call APIs for them. */
export interface ConnectionSettings {
  /** Whether people may sign in with this provider as well. Default: false. */
  readonly alsoForSignIn?: boolean | undefined;
  /** Scopes to ask for when an account is connected, separated by spaces. Default: the provider's `scope`. */
  readonly scope?: string | undefined;
  /** How an account is told apart from others of the same person. */
  readonly account?: AccountSettings | undefined;
  /** What each scope allows, in words for people: `{ "books.read": "read the books" }`. */
  readonly scopeWords?: Readonly<Record<string, string>> | undefined;
  /** Whether two people of this app may connect the same account, each with tokens of their own. Default: true. */
  readonly shared?: boolean | undefined;
}

/** The app's own pages, as paths, in place of the built-in ones. */
export interface PageSettings {
  /** Offers the providers by links to `<basePath>/to/<provider>`; gets `returnTo`, and what else the link asks for. */
  readonly chooser?: string | undefined;
  /** For somebody who said no, or was not let; gets `returnTo`. */
  readonly declined?: string | undefined;
  /** For what went wrong; gets `problem`, the code. */
  readonly failed?: string | undefined;
  /** Where somebody goes who signed in without saying where to. Default: `/`, or the sub-path that `basePath` is under. */
  readonly signedIn?: string | undefined;
  /** Where a launch from a host leads; gets `launched`, the name of the launch. Default: the page of `signedIn`. */
  readonly launched?: string | undefined;
  /** Where sign-out ends. Default: the same. */
  readonly signedOut?: string | undefined;
  /** Origins whose pages may show the built-in pages in a frame. Default: none. */
  readonly frameAncestors?: readonly string[] | undefined;
}

/** The look of the built-in pages: CSS values; `light-dark()` tells light from dark. */
export interface ThemeSettings {
  /** Background of the page. */
  readonly surface?: string | undefined;
  /** Colour of text. */
  readonly ink?: string | undefined;
  /** Borders of what is there to be read. */
  readonly line?: string | undefined;
  /** Borders of what can be pressed. */
  readonly accent?: string | undefined;
  /** Radius of corners. */
  readonly corner?: string | undefined;
  /** The font family. */
  readonly font?: string | undefined;
}

/** What the built-in pages say in one language. `{provider}` stands for the provider's title. */
export interface TextSettings {
  /** Title of the page that offers the providers. */
  readonly signIn?: string | undefined;
  /** Above the list of them. */
  readonly choose?: string | undefined;
  /** On each button: Sign in with {provider}. */
  readonly signInWith?: string | undefined;
  /** While the browser passes an answer on. */
  readonly signingIn?: string | undefined;
  /** On the button of that page. */
  readonly goOn?: string | undefined;
  /** On that page, where scripts are off. */
  readonly needsScript?: string | undefined;
  /** On a link, in a frame in which the browser keeps nothing. */
  readonly ownWindow?: string | undefined;
  /** In a window of its own, at its end. */
  readonly signedIn?: string | undefined;
  /** The same: that it can be closed. */
  readonly closeWindow?: string | undefined;
  /** Title for somebody who said no, was not let, or is not signed in any more. */
  readonly declined?: string | undefined;
  /** The same: what became of it. */
  readonly nothingShared?: string | undefined;
  /** To somebody who sent a form after their session had ended. */
  readonly sessionEnded?: string | undefined;
  /** Title of the page before an account is connected, and its button: Connect {provider}. */
  readonly connect?: string | undefined;
  /** On that page: what it means. */
  readonly connectAbout?: string | undefined;
  /** In a window of its own, once an account is connected. */
  readonly connected?: string | undefined;
  /** Title for somebody who said no to that. */
  readonly notConnected?: string | undefined;
  /** On the link back. */
  readonly goBack?: string | undefined;
  /** Title of the page for what went wrong. */
  readonly failed?: string | undefined;
  /** On that page, to a visitor. */
  readonly mayTryAgain?: string | undefined;
  /** On its link. */
  readonly tryAgain?: string | undefined;
}

/** What goes with the session when somebody signs out. */
export interface SignOutSettings {
  /** Goes on to the provider's own sign-out, where it has one. Default: true. */
  readonly atProvider?: boolean | undefined;
  /** Takes the tokens back (RFC 7009), where the provider can; also where a session ends in another way. Default: true. */
  readonly revokeTokens?: boolean | undefined;
}

/** A kind of session with limits of its own. */
export interface SessionKindSettings {
  /** How long such a session lasts, in seconds. */
  readonly lifetimeSeconds: number;
  /** Ends it earlier when it is not used for so many seconds. Default: it lasts to its end. */
  readonly idleSeconds?: number | undefined;
  /** Whether it also ends when the browser is closed, as on a computer that several people use. Default: false. */
  readonly endsWithBrowser?: boolean | undefined;
}

/** A provider of either protocol, as it stands among the others. */
export type AnyProviderSettings =
  (ProviderSettings & { readonly protocol?: "oauth2" | undefined }) | OAuth1Settings;

/** What settings of all environments, and of one, may say. */
export interface SharedSettings<Providers extends string = string, Apis extends string = string> {
  /**
   * Proxies before this app, where the origin of a request is to be taken from what they say: it has to be `origin` or one of
   * `otherOrigins`. Without them `origin` holds for every request, and no such header is looked at.
   */
  readonly proxies?: ProxySettings | undefined;
  /**
   * What the names of this app's cookies begin with. Two apps on one host need two: browsers send cookies to all ports.
   * Default: `tenonsaw`.
   */
  readonly cookiePrefix?: string | undefined;
  /** The path under which the sign-in routes live. Default: `/sign-in`. */
  readonly basePath?: string | undefined;
  /**
   * Sealing keys: 32 bytes each in base64url, separated by commas, the current one first; or where they are to be found.
   * Default: the environment variable TENONSAW_KEYS. `tenonsaw keys` makes one.
   */
  readonly keys?: string | SecretReference | undefined;
  /** The APIs by name: whose tokens they take, and the one origin these may be sent to. */
  readonly apis?: Readonly<Record<Apis, ApiSettings<NoInfer<Providers>>>> | undefined;
  /** Providers whose accounts people can connect, by the provider's name, and how. Those are not for signing in, unless it says so. */
  readonly connections?: Readonly<Record<string, ConnectionSettings>> | undefined;
  /** The app's own pages, in place of the built-in ones. */
  readonly pages?: PageSettings | undefined;
  /** The look of the built-in pages. */
  readonly theme?: ThemeSettings | undefined;
  /** What the built-in pages say, by language (BCP 47): in place of English and German, or in further languages. */
  readonly texts?: Readonly<Record<string, TextSettings>> | undefined;
  /** What goes with the session when somebody signs out. */
  readonly signOut?: SignOutSettings | undefined;
  /** How long a session lasts, in seconds, at most 400 days, as browsers keep no cookie longer. Default: seven days. */
  readonly sessionLifetimeSeconds?: number | undefined;
  /** Ends a session earlier that is not used for so many seconds. Default: it lasts to its end. */
  readonly sessionIdleSeconds?: number | undefined;
  /**
   * Kinds of session with limits of their own, such as one that stays on a person's own device: a sign-in that begins with
   * `?kind=<name>` ends in one.
   */
  readonly sessionKinds?: Readonly<Record<string, SessionKindSettings>> | undefined;
  /**
   * For how many seconds, at most 300, a process may remember a session, so that most requests read nothing from the store;
   * for as long a session that was ended elsewhere goes on. Default: each request reads.
   */
  readonly sessionCacheSeconds?: number | undefined;
  /**
   * Offers pages server-sent events that tell them when their session has ended elsewhere: the store is read every so many
   * seconds, at most 300, for each page that is in front, and its connection stays open. Default: pages ask every half a minute.
   */
  readonly sessionEventsSeconds?: number | undefined;
  /** What pages may know of the person who is signed in: everything there can be read by every script on them. Default: `["name"]`. */
  readonly toldToPages?: readonly ("id" | "name" | "email" | "picture" | "claims")[] | undefined;
  /** Shows problems in full on the failure page. Never in production: it tells visitors too much. Default: false. */
  readonly development?: boolean | undefined;
}

/** What one environment has of its own; what it does not name is as all environments have it. */
export interface EnvironmentSettings extends SharedSettings {
  /** Marks what real people use: literal secrets and `development` are refused there. */
  readonly production?: boolean | undefined;
  /** Where browsers see this app in this environment. */
  readonly origin?: string | undefined;
  /** What the providers have of their own in this environment. */
  readonly providers?: Readonly<Record<string, Partial<AnyProviderSettings>>> | undefined;
}

/** The settings of a file: one set, or what several environments share and what each has of its own. */
export interface SettingsData extends Omit<SharedSettings, "apis"> {
  /** Address of the JSON Schema, for editors. */
  readonly $schema?: string | undefined;
  /** Which of the environments holds. The environment variable TENONSAW_ENV goes before it. */
  readonly environment?: string | undefined;
  /** What differs between environments, such as sandbox and production. */
  readonly environments?: Readonly<Record<string, EnvironmentSettings>> | undefined;
  /** Where browsers see this app: scheme, host and port. */
  readonly origin?: string | undefined;
  /** The providers by name. The name is part of the routes. */
  readonly providers?: Readonly<Record<string, Partial<AnyProviderSettings>>> | undefined;
  /** The APIs by name. */
  readonly apis?: Readonly<Record<string, Partial<ApiSettings>>> | undefined;
}

/** Somebody who is about to be signed in. */
export interface Visit<Providers extends string = string> {
  /** Name of the provider. */
  readonly provider: Providers;
  /** Who the provider says it is. */
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

/** Where settings that were read from a file stand in it, by name; goes along when they are spread. */
export const settingPlaces = Symbol("places of settings");
export type SettingPlaces = Readonly<Record<"origin" | "proxies", string>>;

/** What only code can say. */
export interface SettingsInCode<Providers extends string = string> {
  readonly [settingPlaces]?: SettingPlaces;
  /** Where sessions are kept: on the server, or in their browsers (`createCookieStore`, which says what that costs). */
  readonly store: Store | BrowserStore | Promise<Store>;
  /**
   * Is asked at every sign-in, before there is a session: refuses it; says, at a first visit, what the person is called in
   * a user table of the app's own; or names a page that is to ask them for more. Default: everybody is welcome. Two first
   * visits of one identity at the same moment are asked about once in one process, and may be asked about twice where there
   * are several processes: of two names the first one written holds. A function that has not answered after 30 seconds lets
   * nobody in.
   */
  readonly welcome?: ((visit: Visit<NoInfer<Providers>>) => Welcome | Promise<Welcome>) | undefined;
  /**
   * Is asked before a request is answered that begins or ends a sign-in, or tells of a sign-out: so many seconds until the
   * next is, or undefined for at once. Default: 600 such requests a minute from one peer with a public address.
   *
   * @param peer the address it comes from: as the outermost of `proxies` saw it, or this process; where that is known
   */
  readonly limitRate?:
    | ((request: Request, peer: string | undefined) => number | undefined | Promise<number | undefined>)
    | undefined;
  /** Is told what happens to connections: renewed, or in need of the person's consent. */
  readonly onConnection?: ((event: ConnectionEvent) => void) | undefined;
  /**
   * Is told what went wrong, for a log of the app's own. Default: a line for each on standard error; what visitors' browsers do
   * wrong once a minute each, and the stack of an error of the app's own once.
   */
  readonly onProblem?: ((report: ProblemReport) => void) | undefined;
  /** Is told every leg and check. */
  readonly trace?: Trace | undefined;
  /** Replaces the clock, fetch, randomness or cryptography. */
  readonly platform?: Platform | undefined;
}

/** Settings of a server app, as they stand in code. */
export interface SignInSettings<Providers extends string = string, Apis extends string = string>
  extends SharedSettings<Providers, Apis>, SettingsInCode<Providers> {
  /** Where browsers see this app: scheme, host and port. */
  readonly origin: string;
  /** The providers by name. The name is part of the routes. */
  readonly providers: Readonly<Record<Providers, AnyProviderSettings>>;
}

/** The same where there are several environments: what is missing in one is told when the app starts. */
export interface SignInSettingsFromFile extends SettingsData, SettingsInCode {
  /** What differs between environments, such as sandbox and production. */
  readonly environments: Readonly<Record<string, EnvironmentSettings>>;
}

/** An API's settings with their defaults. */
export interface ResolvedApiSettings extends With<ApiSettings, "origin" | "relay" | "tokenClaims"> {
  /** Where it begins at that origin, for what a host offers: below the host's own address. */
  readonly base?: string;
}

/** The settings of one environment, with their defaults: what `createSignIn` takes as it is. */
export interface ResolvedSignInSettings extends With<
  Omit<SharedSettings, "apis" | "connections" | "pages" | "proxies" | "sessionKinds" | "signOut">,
  | "basePath"
  | "cookiePrefix"
  | "development"
  | "keys"
  | "sessionLifetimeSeconds"
  | "texts"
  | "theme"
  | "toldToPages"
> {
  readonly origin: string;
  /** The environment they are of; absent where the settings have none. */
  readonly environment?: string | undefined;
  readonly providers: Readonly<Record<string, ResolvedProviderSettings>>;
  /** Those of them whose `protocol` is oauth1; in settings they stand among the others. */
  readonly oauth1Providers: Readonly<Record<string, ResolvedOAuth1Settings>>;
  readonly apis: Readonly<Record<string, ResolvedApiSettings>>;
  readonly connections: Readonly<
    Record<string, With<ConnectionSettings, "alsoForSignIn" | "scopeWords" | "shared">>
  >;
  readonly pages: With<PageSettings, "launched" | "signedIn" | "signedOut">;
  readonly proxies?: With<ProxySettings, "otherOrigins"> | undefined;
  readonly sessionKinds: Readonly<Record<string, With<SessionKindSettings, "endsWithBrowser">>>;
  readonly signOut: With<SignOutSettings, "atProvider" | "revokeTokens">;
}

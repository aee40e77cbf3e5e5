import type { Colors } from "picocolors/types.js";
import { isHost } from "tenonsaw/launch";
import { tenantNames } from "../tenant-names.js";
import { originsOf, signInRoutes, type ResolvedSignInSettings } from "tenonsaw/server";

/** What to paste into one provider's console, and how each value came about. */
export interface Sheet {
  readonly provider: string;
  readonly title: string;
  readonly rows: readonly SheetRow[];
}

export interface SheetRow {
  readonly name: string;
  readonly values: readonly string[];
  readonly derived: string;
}

/** The registration sheet of a provider. */
export function makeSheet(settings: ResolvedSignInSettings, provider: string): Sheet {
  const oauth1 = settings.oauth1Providers[provider];
  if (oauth1) return makeOAuth1Sheet(settings, provider, oauth1);
  const found = settings.providers[provider];
  const routes = originsOf(settings).map((origin) => signInRoutes({ ...settings, origin }));
  const host = found !== undefined && isHost(found);
  const signsItself = authenticationOf(found) === "private_key_jwt";
  const scopes = found?.scope.split(" ") ?? [];
  const rows: readonly SheetRow[] = [
    { name: "Kind of app", values: ["web app with a server"], derived: "tokens stay on the server" },
    {
      name: "Redirect URI",
      values: routes.flatMap(({ callback }) => tenantNames(provider, found).map(callback)),
      derived: found?.launch?.tenants
        ? "origin + basePath + /from/ + the provider's name in the settings, a dot and the tenant: register at each tenant its own"
        : "origin + basePath + /from/ + the provider's name in the settings",
    },
    ...(host
      ? [
          {
            name: "Launch URL",
            values: routes.map(({ launch }) => launch),
            derived: "origin + basePath + /launch: where the host opens the app",
          },
          {
            name: "Host",
            values: [found.issuer],
            derived: "issuer of the provider: what the host has to send as iss",
          },
        ]
      : []),
    {
      name: "Sign-out return URI",
      values: routes.map(({ signedOut }) => signedOut),
      derived: "origin + basePath + /out/done, the same for every provider",
    },
    {
      name: "Back-channel logout URI",
      values: routes.slice(0, 1).map(({ backChannelLogout }) => backChannelLogout(provider)),
      derived: "origin + basePath + /back-channel/ + the provider's name; the provider has to reach it",
    },
    {
      name: "Front-channel logout URI",
      values: routes.slice(0, 1).map(({ frontChannelLogout }) => frontChannelLogout(provider)),
      derived: "origin + basePath + /front-channel/ + the provider's name, with iss and sid",
    },
    { name: "Allowed origins", values: ["none"], derived: "pages never speak to the provider" },
    { name: "Response type", values: ["code"], derived: "always, with PKCE S256" },
    {
      name: "Grant types",
      values: ["authorization_code", ...(scopes.includes("offline_access") ? ["refresh_token"] : [])],
      derived: "refresh_token because scope asks for offline_access, if it is there",
    },
    {
      name: "Scopes",
      values: host && found.discovery === "smart" ? ["launch", ...scopes] : scopes,
      derived: host ? "scope of the provider, and launch for what the host opens" : "scope of the provider",
    },
    signsItself
      ? {
          name: "Key set URL",
          values: routes.slice(0, 1).map(({ keySet }) => keySet),
          derived: "origin + basePath + /keys: the public parts of clientKeys",
        }
      : {
          name: "Key set URL",
          values: ["none"],
          derived: "the app proves itself by its secret, not by a key",
        },
    {
      name: "Client authentication",
      values: [authenticationOf(found)],
      derived: "clientAuthentication, or what is usual with or without a secret",
    },
    { name: "Client ID", values: [found?.clientId ?? ""], derived: "clientId: what the console gave you" },
  ];
  return { provider, title: found?.title ?? provider, rows };
}

/** Consoles for OAuth 1.0a ask for little. */
function makeOAuth1Sheet(
  settings: ResolvedSignInSettings,
  provider: string,
  { title, clientId, signatureMethod }: ResolvedSignInSettings["oauth1Providers"][string],
): Sheet {
  const routes = originsOf(settings).map((origin) => signInRoutes({ ...settings, origin }));
  const rows: readonly SheetRow[] = [
    { name: "Kind of app", values: ["web app with a server"], derived: "the secrets stay on the server" },
    {
      name: "Callback URL",
      values: routes.map(({ callback }) => callback(provider)),
      derived: "origin + basePath + /from/ + the provider's name in the settings",
    },
    { name: "Signature method", values: [signatureMethod], derived: "signatureMethod of the provider" },
    { name: "Consumer key", values: [clientId], derived: "clientId: what the console gave you" },
  ];
  return { provider, title: title ?? provider, rows };
}

/** The same as client metadata for dynamic registration: RFC 7591 section 2. */
export function sheetAsRegistration(
  settings: ResolvedSignInSettings,
  provider: string,
): Readonly<Record<string, unknown>> {
  const value = (name: string) =>
    makeSheet(settings, provider).rows.find((row) => row.name === name)?.values ?? [];
  return {
    redirect_uris: value("Redirect URI"),
    post_logout_redirect_uris: value("Sign-out return URI"),
    backchannel_logout_uri: value("Back-channel logout URI")[0],
    backchannel_logout_session_required: true,
    frontchannel_logout_uri: value("Front-channel logout URI")[0],
    frontchannel_logout_session_required: true,
    response_types: value("Response type"),
    grant_types: value("Grant types"),
    scope: value("Scopes").join(" "),
    token_endpoint_auth_method: value("Client authentication")[0],
    ...(value("Key set URL")[0] !== "none" && { jwks_uri: value("Key set URL")[0] }),
    ...(value("Launch URL").length > 0 && { initiate_login_uri: value("Launch URL")[0] }),
    application_type: "web",
  };
}

export function sheetAsText({ title, rows }: Sheet, colors: Colors): string {
  const width = Math.max(...rows.map(({ name }) => name.length));
  const lines = rows.map(({ name, values, derived }) => {
    const [first = "", ...more] = values;
    const indent = " ".repeat(width + 4);
    return [
      `  ${name.padEnd(width)}  ${first}`,
      ...more.map((each) => indent + each),
      indent + colors.dim(derived),
    ].join("\n");
  });
  return `${colors.bold(title)}\n\n${lines.join("\n")}\n`;
}

export function sheetAsMarkdown({ title, rows }: Sheet): string {
  const lines = rows.map(({ name, values, derived }) => {
    return `| ${name} | ${values.map((value) => `\`${value}\``).join("<br>")} | ${derived} |`;
  });
  return `## ${title}\n\n| field | value | how it came about |\n|---|---|---|\n${lines.join("\n")}\n`;
}

function authenticationOf(provider: ResolvedSignInSettings["providers"][string] | undefined): string {
  if (provider?.clientAuthentication !== undefined) return provider.clientAuthentication;
  if (provider?.clientKeys !== undefined) return "private_key_jwt";
  return provider?.clientSecret === undefined ? "none" : "client_secret_basic";
}

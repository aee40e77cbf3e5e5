import { parseUrl } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import type { ProviderSettings } from "../provider/index.js";
import { isObject } from "./follow-session.js";

const isText = (value: unknown): value is string => typeof value === "string" && value !== "";

/**
 * A worker's settings are read by nobody before: what is wrong with them is told at once, and all of it.
 *
 * @throws page.settings-refused
 */
export function requireSettings(settings: unknown, origin: string): void {
  const findings: { path: string; message: string }[] = [];
  const known = { provider: true, apis: true, redirectUri: true, signedOutUri: true };
  const all = isObject(settings) ? settings : {};
  const expect = (path: string, holds: boolean, message: string) => {
    if (!holds) findings.push({ path, message });
  };
  for (const name of Object.keys(all))
    expect(name, Object.hasOwn(known, name), `is none of ${Object.keys(known).join(", ")}`);
  const { provider, apis = {}, redirectUri, signedOutUri } = all;
  expect("provider", isObject(provider), "must be one provider: { issuer, clientId }");
  if (isObject(provider))
    for (const name of ["issuer", "clientId"])
      expect(`provider.${name}`, isText(provider[name]), "must be a text");
  const { responseMode = "query" } = isObject(provider) ? provider : {};
  const isRead = responseMode === "query" || responseMode === "fragment";
  expect("provider.responseMode", isRead, "must be query or fragment: a page reads nothing else");
  expect("apis", isObject(apis), "must be an object: APIs by name");
  for (const [name, api] of Object.entries(isObject(apis) ? apis : {})) {
    const at = isObject(api) ? api["origin"] : undefined;
    const isOrigin = isText(at) && parseUrl(at)?.origin === at;
    expect(
      `apis.${name}`,
      isOrigin,
      "must be { origin }: scheme, host and port, no path, no slash at the end",
    );
  }
  const addressOf = (value: unknown) => (isText(value) ? parseUrl(value) : undefined);
  expect(
    "signedOutUri",
    signedOutUri === undefined || addressOf(signedOutUri) !== undefined,
    "must be a whole address",
  );
  // The page that gets the answer reads what this one has kept, which a browser keeps by origin (RFC 6749 section 3.1.2).
  const end = redirectUri === undefined ? undefined : addressOf(redirectUri);
  expect(
    "redirectUri",
    redirectUri === undefined || (end?.origin === origin && !end.href.includes("#")),
    `must be a whole address of this page's origin, ${origin}, without #`,
  );
  if (findings.length > 0)
    fail("page.settings-refused", { received: findings.map(({ path }) => path).join(", "), findings });
}

/** A page's code is everybody's to read, and so is a secret in it (RFC 6749 section 2.1, RFC 9700 section 2.1). */
export function requireNoSecret({
  provider,
  apis = {},
}: {
  readonly provider: ProviderSettings;
  readonly apis?: Readonly<Record<string, object>>;
}): void {
  const secrets = (["clientSecret", "clientKeys"] as const).filter((name) => name in provider);
  if (secrets.length > 0)
    fail("page.secret-refused", { received: `provider.${secrets.join(", provider.")}` });
  const { clientAuthentication = "none" } = provider;
  if (clientAuthentication !== "none")
    fail("page.secret-refused", { received: `clientAuthentication ${quoted(clientAuthentication)}` });
  const machine = Object.entries(apis).find(([, api]) => "clientScope" in api);
  if (machine) fail("page.client-credentials-refused", { received: `apis.${machine[0]}.clientScope` });
}

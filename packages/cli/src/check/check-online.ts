import {
  beginOAuth1SignIn,
  isProblem,
  openOAuth1Provider,
  openProvider,
  type Platform,
  type Provider,
} from "tenonsaw";
import { originsOf, signInRoutes, type ResolvedSignInSettings } from "tenonsaw/server";
import { checkAddress } from "./check-address.js";
import { checkClient, checkRedirectUri, hasSecret } from "./check-client.js";
import {
  checkFurtherScopes,
  checkHost,
  checkKeySet,
  checkMetadata,
  checkUserinfo,
} from "./check-metadata.js";
import { markDifference } from "./difference.js";
import { createFindings, type CheckFinding, type Findings } from "./finding.js";

type ProviderSettings = ResolvedSignInSettings["providers"][string];

/** Everything that a provider itself can tell. */
export async function checkOnline(
  platform: Platform,
  settings: ResolvedSignInSettings,
  name: string,
): Promise<readonly CheckFinding[]> {
  const findings = createFindings(name);
  const own = settings.providers[name];
  if (!own) {
    const oauth1 = settings.oauth1Providers[name];
    if (oauth1) await checkOAuth1(findings, platform, oauth1, signInRoutes(settings).callback(name));
    return findings.list;
  }
  if (own.launch?.tenants) {
    const { admitted } = own.launch.tenants;
    findings.untold(
      "host",
      `each tenant has a configuration of its own${admitted === "any" ? "" : `: ${admitted.join(", ")}`}`,
      "Check one of them: settings with its base URL as `issuer`.",
    );
    return findings.list;
  }
  const address = new URL(own.deviations.metadataUrl ?? own.metadata.tokenEndpoint ?? own.issuer);
  if (!(await checkAddress(findings, platform, address))) return findings.list;
  const provider = await open(findings, platform, own);
  if (!provider) return findings.list;
  checkMetadata(findings, provider, own);
  checkFurtherScopes(findings, provider, settings, name);
  await checkUserinfo(findings, provider);
  checkHost(findings, provider);
  await checkKeySet(findings, provider);
  await checkClient(findings, platform, provider, own);
  for (const origin of originsOf(settings)) {
    const redirectUri = signInRoutes({ ...settings, origin }).callback(name);
    await checkRedirectUri(findings, provider, redirectUri, hasSecret(platform, own));
  }
  return findings.list;
}

/** There is nothing to read at a provider of OAuth 1.0a; what a sign-in begins with tells whether it would go on. */
async function checkOAuth1(
  findings: Findings,
  platform: Platform,
  own: ResolvedSignInSettings["oauth1Providers"][string],
  callback: string,
): Promise<void> {
  if (!(await checkAddress(findings, platform, new URL(own.temporaryCredentialsEndpoint)))) return;
  try {
    await beginOAuth1SignIn(openOAuth1Provider(own, { platform }), { redirectUri: callback });
    findings.good("client", "proved by its signature: temporary credentials were given");
    findings.good("callback URL", `${callback} is accepted and confirmed`);
  } catch (error) {
    if (!isProblem(error)) throw error;
    const { title, received = "", here, atProvider = "" } = error.problem;
    findings.wrong("client", `${title}: ${received}`, here ?? atProvider);
  }
}

async function open(
  findings: Findings,
  platform: Platform,
  own: ProviderSettings,
): Promise<Provider | undefined> {
  try {
    // A missing secret has been found before; what the provider says of itself can be read all the same.
    const provider = await openProvider(hasSecret(platform, own) ? own : { ...own, ...standIn(own) }, {
      platform,
    });
    findings.good("metadata", own.discovery === "none" ? "given by hand" : "found and well-formed");
    const isAside = provider.host?.isSmart === true && provider.issuer !== own.issuer;
    findings.good(
      "issuer",
      isAside
        ? `${provider.issuer}, beside the FHIR server`
        : `${provider.issuer}, exactly as in the settings`,
    );
    return provider;
  } catch (error) {
    if (!isProblem(error)) throw error;
    const { code, title, expected, received, here, atProvider, findings: parts = [] } = error.problem;
    const detail = parts.map(({ path, message }) => `${path} ${message}`).join("; ");
    const difference =
      code === "provider.issuer-mismatch"
        ? `\n${markDifference(unquote(expected), unquote(received ?? ""))}`
        : "";
    const looked = `${title}: expected ${expected}, received ${received ?? "nothing"}${detail === "" ? "" : ` (${detail})`}${difference}`;
    findings.wrong(
      code === "provider.issuer-mismatch" ? "issuer" : "metadata",
      looked,
      here ?? atProvider ?? "",
      here === undefined ? "at the provider" : "here",
    );
    return undefined;
  }
}

function unquote(text: string): string {
  return text.replace(/^"|"$/g, "");
}

/** Something that opens the provider all the same; it is not sent anywhere. */
function standIn({ clientAuthentication }: ProviderSettings): Partial<ProviderSettings> {
  const isSigned = clientAuthentication === "private_key_jwt" || clientAuthentication === undefined;
  return {
    clientSecret: "missing, and long enough for a MAC",
    clientKeys: undefined,
    ...(isSigned && { clientAuthentication: undefined }),
  };
}

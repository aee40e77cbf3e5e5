import { host } from "../platform/host.js";
import { isLoopback, usualFetch, type Platform } from "../platform/index.js";
import type { CauseOf } from "../problem/index.js";
import { innermost } from "./unanswered.js";

type Cause = CauseOf<"platform.unreachable">;

const codes: Readonly<Record<string, Cause>> = {
  ECONNREFUSED: "nobody-listens",
  ENOTFOUND: "name-unknown",
  EAI_AGAIN: "name-unknown",
  ECONNRESET: "cut-off",
  EPIPE: "cut-off",
  ETIMEDOUT: "no-way",
  UND_ERR_CONNECT_TIMEOUT: "no-way",
  EHOSTUNREACH: "no-way",
  ENETUNREACH: "no-way",
  UND_ERR_SOCKET: "cut-off",
  UND_ERR_ABORTED: "cut-off",
  DEPTH_ZERO_SELF_SIGNED_CERT: "certificate-untrusted",
  SELF_SIGNED_CERT_IN_CHAIN: "certificate-untrusted",
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: "certificate-untrusted",
  UNABLE_TO_GET_ISSUER_CERT: "certificate-untrusted",
  UNABLE_TO_GET_ISSUER_CERT_LOCALLY: "certificate-untrusted",
  CERT_HAS_EXPIRED: "certificate-expired",
  CERT_NOT_YET_VALID: "certificate-expired",
  ERR_TLS_CERT_ALTNAME_INVALID: "certificate-name",
  ERR_SSL_TLSV13_ALERT_CERTIFICATE_REQUIRED: "certificate-wanted",
  ERR_SSL_SSLV3_ALERT_HANDSHAKE_FAILURE: "certificate-wanted",
  EPROTO: "not-tls",
  ERR_SSL_WRONG_VERSION_NUMBER: "not-tls",
  ERR_SSL_PACKET_LENGTH_TOO_LONG: "not-tls",
};

/**
 * Which cause of `platform.unreachable` a failed connection comes from, by the code of the innermost error. A page's `fetch`
 * says no more than that it failed (Fetch Standard, 5.6): neither which nor why.
 */
export function unreachableBecause(error: unknown, platform: Platform, url: URL): Cause | undefined {
  const because = causeOf(error);
  const isSilent = error instanceof Error && error.name === "TimeoutError";
  if (because === undefined ? !isSilent : !mayBeOfProxy.has(because)) return because;
  const isUsed = proxyFor(platform, url)?.isUsed;
  return isUsed === undefined ? because : isUsed ? "proxy" : "proxy-unused";
}

/** What a network looks like, beside silence, that lets nothing out but through its proxy. */
const mayBeOfProxy = new Set<Cause>(["nobody-listens", "name-unknown", "cut-off", "no-way"]);

function causeOf(error: unknown): Cause | undefined {
  const { inner, code } = innermost(error);
  // What a parser of HTTP says of what it cannot read.
  if (code?.startsWith("HPE_")) return "not-http";
  if (code !== undefined) return codes[code];
  // What Node's own fetch says, in words alone.
  if (inner instanceof Error && inner.message === "bad port") return "port-blocked";
  return "location" in globalThis ? "page" : undefined;
}

/** A proxy that the environment names for an address: as Node takes it, where it does (`NODE_USE_ENV_PROXY`). */
export interface NamedProxy {
  /** The variable that names it. */
  readonly variable: string;
  /** Undefined where it cannot be told, as of a `fetch` that is not Node's own. */
  readonly isUsed: boolean | undefined;
}

export function proxyFor(
  { environment, fetch }: Pick<Platform, "environment" | "fetch">,
  { protocol, hostname, port }: URL,
): NamedProxy | undefined {
  const name = protocol === "https:" ? "https_proxy" : "http_proxy";
  const isSet = (each: string) => (environment(each) ?? "") !== "";
  const variable = [name, name.toUpperCase()].find(isSet);
  const excepted = (environment("no_proxy") ?? environment("NO_PROXY") ?? "").toLowerCase().split(/[\s,]+/);
  const isExcepted = excepted.some((each) => {
    const bare = each.replace(/^\*?\./, "");
    const isOfIt = (at: string) => at === bare || at.endsWith(`.${bare}`);
    return each === "*" || (bare !== "" && (isOfIt(hostname) || isOfIt(`${hostname}:${port}`)));
  });
  if (variable === undefined || isExcepted || isLoopback(hostname)) return undefined;
  return { variable, isUsed: fetch === usualFetch ? goesByProxies(environment) : undefined };
}

/** Whether Node's `fetch` goes by the proxies of the environment, as far as that can be told. */
function goesByProxies(environment: Platform["environment"]): boolean | undefined {
  // What it sends with, once it has sent something: an app may have put another in its place.
  const sender: unknown = ["2", "1"]
    .map((edition): unknown => Reflect.get(globalThis, Symbol.for(`undici.globalDispatcher.${edition}`)))
    .find((each) => each !== undefined);
  const kind = sender?.constructor.name;
  if (kind === "EnvHttpProxyAgent") return true;
  if (kind !== undefined) return kind === "Agent" ? false : undefined;
  // Nothing has been sent yet: it will be as Node was started.
  const flag = "--use-env-proxy";
  const { execArgv = [], allowedNodeEnvironmentFlags } = host();
  const asked = [...execArgv, ...(environment("NODE_OPTIONS") ?? "").split(" ")].includes(flag);
  const isAsked = asked || environment("NODE_USE_ENV_PROXY") === "1";
  return allowedNodeEnvironmentFlags && isAsked && allowedNodeEnvironmentFlags.has(flag);
}

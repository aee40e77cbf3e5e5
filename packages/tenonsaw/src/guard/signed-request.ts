import { isSignedByKey, macParts, type Parameters, type SignatureMethod } from "../oauth1/index.js";
import { limits } from "../platform/index.js";
import { fail, quoted } from "../problem/index.js";
import { clockToleranceSeconds } from "../provider/index.js";
import { askApp, check, equalInConstantTime, shapeOf, type Tools } from "../trace/index.js";
import { listOf, type Caller } from "./caller.js";
import { carriesForm, queryOf, type IncomingCall } from "./incoming.js";
import type { PromptMarks } from "./replays.js";
import type { SignedCredentials, SignedRequestSettings } from "./settings-types.js";

const usualMethods: readonly SignatureMethod[] = ["HMAC-SHA256", "HMAC-SHA1", "RSA-SHA1"];

/**
 * Judges a request signed by OAuth 1.0a: RFC 5849 sections 3.1 to 3.5.
 *
 * @param address where the caller sees what it called, with its query
 * @throws guard.request-…
 */
export async function admitSigned(
  tools: Tools,
  settings: SignedRequestSettings,
  marks: PromptMarks,
  call: IncomingCall,
  place: "header" | "query" | "form",
  address: string,
): Promise<Caller> {
  const form: Parameters = carriesForm(call) ? [...(await call.form())] : [];
  const query: Parameters = [...new URLSearchParams(queryOf(call.url))];
  const header = place === "header" ? readHeader(call.header("authorization") ?? "") : [];
  const all = { header, query, form };
  if (form.length + query.length + header.length > limits.signedParameters)
    fail("guard.request-unsigned", { received: `more than ${limits.signedParameters} parameters` });
  const isProtocol = ([name]: readonly [string, string]) => name.startsWith("oauth_");
  // 3.5: one place; what has the same names elsewhere makes it unclear which counts.
  const elsewhere = (["header", "query", "form"] as const).filter(
    (each) => each !== place && all[each].some(isProtocol),
  );
  if (elsewhere.length > 0)
    fail("guard.request-unsigned", {
      received: `protocol parameters in the ${place} and in the ${elsewhere.join(" and the ")}`,
    });
  const protocol = all[place].filter(isProtocol);
  const names = protocol.map(([name]) => name);
  const doubled = names.filter((name, index) => names.indexOf(name) !== index);
  if (doubled.length > 0)
    fail("guard.request-unsigned", {
      received: `${[...new Set(doubled)].map((name) => quoted(name, 40)).join(", ")} more than once`,
    });
  const read = Object.fromEntries(protocol) as Readonly<Record<string, string | undefined>>;
  const {
    oauth_consumer_key: clientId = "",
    oauth_token: token = "",
    oauth_signature: signature = "",
  } = read;
  const {
    oauth_signature_method: method = "",
    oauth_version: version,
    oauth_timestamp: timestamp,
    oauth_nonce: nonce,
  } = read;
  const isPlain = method === "PLAINTEXT";
  const missing = [
    ["oauth_consumer_key", clientId],
    ["oauth_signature_method", method],
    ["oauth_signature", signature],
    ...(isPlain
      ? []
      : ([
          ["oauth_timestamp", timestamp],
          ["oauth_nonce", nonce],
        ] as const)),
  ].filter(([, value]) => value === undefined || value === "");
  if (missing.length > 0)
    fail("guard.request-unsigned", { received: `no ${missing.map(([name]) => name).join(", ")}` });
  const overlong = protocol.filter(
    ([name, value]) => name !== "oauth_signature" && value.length > limits.signedParameter,
  );
  if (overlong.length > 0 || signature.length > 2048)
    fail("guard.request-unsigned", { received: `a value of more than ${limits.signedParameter} characters` });
  const methods = settings.methods ?? usualMethods;
  const isTaken = methods.some((each) => each === method);
  // 3.4.4, for PLAINTEXT: `origin` is an https origin or on this machine, or the settings are refused.
  check(tools, "guard.request-method-refused", isTaken && (version ?? "1.0") === "1.0", () => ({
    received: isTaken ? `oauth_version ${quoted(version, 20)}` : quoted(method, 40),
    expected: `${methods.join(" or ")}, and oauth_version 1.0 or none`,
  }));
  const now = tools.platform.now();
  const { windowSeconds = 300 } = settings;
  if (timestamp !== undefined) {
    // 3.3: a positive whole number of seconds.
    const at = /^[1-9]\d{0,11}$/.test(timestamp) ? Number(timestamp) : Number.NaN;
    check(tools, "guard.request-time", Math.abs(now - at) <= windowSeconds, () => ({
      received: Number.isNaN(at)
        ? `oauth_timestamp ${quoted(timestamp, 30)}`
        : `a timestamp ${Math.round(Math.abs(now - at))} s ${at < now ? "ago" : "from now"}`,
      expected: `at most ${windowSeconds} s away from ${Math.floor(now)}`,
    }));
  }
  const answer: unknown = await askApp(tools, "signedRequests.credentialsOf", () =>
    settings.credentialsOf(clientId, token === "" ? undefined : token),
  );
  check(tools, "guard.request-unknown", answer !== undefined && answer !== null, () => ({
    received: `the client ${quoted(clientId, 60)}${token === "" ? "" : ` with a token of ${token.length} characters`}`,
  }));
  // 3.4.1.3.1: all parameters, wherever they stand, but the signature itself and the header's realm.
  const isCovered = ([name]: readonly [string, string]) => name !== "oauth_signature";
  const signed = {
    method: call.method,
    url: place === "query" ? withQuery(address, query.filter(isCovered)) : address,
    form: place === "form" ? form.filter(isCovered) : form,
    protocol: header.filter(([name]) => name !== "oauth_signature" && name !== "realm"),
  };
  requireCredentials(answer);
  const { publicKey, clientSecret, tokenSecret } = answer;
  // 3.4.2 and 3.4.4 sign with what may be empty: then everybody can. The strict reading: nobody is told apart by nothing.
  const lacks =
    method === "RSA-SHA1"
      ? !publicKey && "public key"
      : (!clientSecret && "secret") || (token !== "" && !tokenSecret && "secret of its token");
  check(tools, "guard.request-method-refused", lacks === false, () => ({
    received: `${method} by the client ${quoted(clientId, 60)}, which has no ${lacks}`,
    expected: "a method for which `credentialsOf` has what it takes",
    because: "no-secret" as const,
  }));
  const holds =
    method === "RSA-SHA1"
      ? publicKey !== undefined && (await isSignedByKey(tools, publicKey, signature, signed))
      : equalInConstantTime(
          signature,
          await macParts(tools, method as Exclude<SignatureMethod, "RSA-SHA1">, answer, signed),
        );
  check(tools, "guard.request-mismatch", holds, () => ({
    received: `a signature by ${method}`,
    expected: `the signature over ${call.method} ${quoted(address.split("?")[0])}`,
  }));
  // 3.3: unique among all requests of this client and token with this timestamp. Noted last: nobody uses up another's nonce.
  if (nonce !== undefined && timestamp !== undefined) {
    const id = await tools.platform.crypto.digestText(
      "SHA-256",
      JSON.stringify([clientId, token, timestamp, nonce]),
    );
    const until = Number(timestamp) + windowSeconds + clockToleranceSeconds;
    const isNew = await marks.useMark(`signed/${id}`, until, now, clientId);
    check(tools, "guard.request-replayed", isNew, () => ({
      received: `oauth_nonce ${quoted(nonce, 40)} for the second time`,
    }));
  }
  return callerOf(clientId, answer);
}

const isText = (value: unknown) => typeof value === "string";

/** Whether a member of credentials is of another kind than it has to be. */
function isOdd([name, value]: readonly [string, unknown]): boolean {
  if (value === undefined) return false;
  if (name === "publicKey") return typeof value !== "object" || value === null;
  if (name === "roles" || name === "permissions") return !Array.isArray(value) || !value.every(isText);
  return ["clientSecret", "tokenSecret", "subject", "scope"].includes(name) && !isText(value);
}

/** @throws server.hook-unusable */
function requireCredentials(answer: unknown): asserts answer is SignedCredentials {
  const isRecord = typeof answer === "object" && !Array.isArray(answer);
  const odd = isRecord ? Object.entries(answer ?? {}).find(isOdd) : (["its answer", answer] as const);
  if (odd)
    fail("server.hook-unusable", {
      received: `\`credentialsOf\`: ${quoted(odd[0], 40)} is ${shapeOf(odd[1])}`,
      expected: "secrets, `subject` and `scope` as texts, lists of texts, a public JWK; or undefined",
    });
}

function withQuery(address: string, query: Parameters): string {
  const url = new URL(address);
  url.search = new URLSearchParams(query.map(([name, value]) => [name, value])).toString();
  return url.href;
}

/** RFC 5849 section 3.5.1: names and values percent-encoded, values in quotes, separated by commas. */
function readHeader(header: string): Parameters {
  const list = header.replace(/^oauth +/i, "");
  if (list.length > limits.signedHeader)
    fail("guard.request-unsigned", { received: `a header of ${list.length} characters` });
  const pairs: [string, string][] = [];
  for (const part of list.split(",")) {
    const [, name, value] = /^\s*([^\s="]+)="([^"]*)"\s*$/.exec(part) ?? [];
    if (name === undefined || value === undefined) {
      if (part.trim() === "") continue;
      return fail("guard.request-unsigned", {
        received: "an Authorization header that is not a list of names and quoted values",
      });
    }
    try {
      pairs.push([decodeURIComponent(name), decodeURIComponent(value)]);
    } catch (error) {
      fail("guard.request-unsigned", {
        received: `${quoted(name, 40)} with an escape that is none`,
        cause: error,
      });
    }
  }
  return pairs;
}

function callerOf(
  clientId: string,
  { subject, scope, roles = [], permissions = [] }: SignedCredentials,
): Caller {
  return Object.freeze({
    ...(subject !== undefined && { subject }),
    clientId,
    kind: subject === undefined ? "client" : "person",
    scope: listOf(scope),
    roles,
    permissions,
    audience: [],
    actors: [],
    boundTo: "secret",
    claims: {},
  } satisfies Caller);
}

import * as v from "valibot";
import { isKeyPairAlgorithm, signatureAlgorithms } from "../jose/index.js";
import { oauth1Entries } from "../oauth1/index.js";
import {
  bareText,
  isBare,
  handMetadata,
  hasProof,
  parseSettings,
  refuseSettings,
  pointers,
  providerEntries,
  missingKeys,
  missingSecret,
  scopes,
  scopeToken,
  secretReference,
  originText,
  secureUrl,
  tenantSettings,
} from "../provider/index.js";
import type { GuardSettings, ResolvedCommon, ResolvedIssuer, TokenIssuer } from "./settings-types.js";

const text = bareText;
const audience = v.union([text, v.pipe(v.array(text), v.minLength(1))], "must be a name, or a list of names");
const { issuer, clientId, clientSecret, clientKeys, clientAuthentication, timeoutSeconds } = providerEntries;
const discovery = v.optional(
  v.picklist(["openid", "oauth", "none"], 'must be "openid", "oauth" or "none"'),
  "openid",
);
const keyPairs = signatureAlgorithms.filter(isKeyPairAlgorithm);
const scalar = v.union([v.string(), v.number(), v.boolean()]);
const fn = v.custom<never>((value) => typeof value === "function", "must be a function");

const usualIntrospection = { signed: false, keepSeconds: 10, withoutAudience: false };

const formatEntries = {
  claims: v.optional(v.record(text, scalar)),
  untyped: v.optional(v.boolean(), false),
  scope: v.optional(pointers),
  roles: v.optional(pointers),
  permissions: v.optional(pointers),
  refused: v.optional(v.boolean()),
};

export const issuerEntries = {
  ...formatEntries,
  issuer,
  audience,
  discovery,
  metadataUrl: v.optional(secureUrl),
  tenants: v.optional(tenantSettings),
  jwksUri: handMetadata.entries.jwksUri,
  keys: handMetadata.entries.keys,
  algorithms: v.optional(
    v.pipe(
      v.array(
        v.picklist(keyPairs, `must be among ${keyPairs.join(", ")}: whoever can check a MAC can make one`),
      ),
      v.minLength(1, "must name one at least"),
    ),
    [...keyPairs],
  ),
  formats: v.optional(
    v.record(
      text,
      v.strictObject({ ...formatEntries, issuer: v.optional(text), audience: v.optional(audience) }),
    ),
    {},
  ),
  client: v.optional(
    v.pipe(
      v.strictObject({
        clientId,
        clientSecret,
        clientKeys,
        clientAuthentication,
        tokenEndpoint: v.optional(secureUrl),
      }),
      v.forward(
        v.check((each) => hasProof(each, "clientSecret"), missingSecret),
        ["clientSecret"],
      ),
      v.forward(
        v.check((each) => hasProof(each, "clientKeys"), missingKeys),
        ["clientKeys"],
      ),
    ),
  ),
  introspection: v.optional(
    v.union(
      [
        v.literal(true),
        v.strictObject({
          endpoint: v.optional(secureUrl),
          signed: v.optional(v.boolean(), usualIntrospection.signed),
          keepSeconds: v.optional(
            v.pipe(v.number(), v.minValue(0), v.maxValue(300)),
            usualIntrospection.keepSeconds,
          ),
          withoutAudience: v.optional(v.boolean(), usualIntrospection.withoutAudience),
        }),
      ],
      "must be true, or { endpoint, signed, keepSeconds, withoutAudience }",
    ),
  ),
  elsewhere: v.optional(v.record(text, text), {}),
  timeoutSeconds,
};

export const commonEntries = {
  resource: v.optional(
    v.pipe(
      secureUrl,
      v.check((url) => !url.includes("#"), "must be without a fragment"),
    ),
  ),
  name: v.optional(
    v.pipe(text, v.regex(/^[\x20\x21\x23-\x5b\x5d-\x7e]+$/, "must be printable ASCII without quotes")),
  ),
  origin: v.optional(originText),
  pageOrigins: v.optional(
    v.union([v.literal("any"), v.array(originText)], 'must be a list of origins, or "any"'),
  ),
  scopes: v.optional(
    v.array(
      v.pipe(
        v.string(),
        v.regex(new RegExp(`^${scopeToken}$`), "must be one scope, with no space in it"),
        isBare,
      ),
    ),
  ),
  proofRequired: v.optional(v.boolean(), false),
  proofNonces: v.optional(
    v.union([text, ...secretReference.options], "must be { env: NAME } or { file: PATH }"),
  ),
  store: v.optional(
    v.custom<object>(
      (value) => typeof (value as { useMark?: unknown } | null)?.useMark === "function",
      ({ input }) => (input instanceof Promise ? "is a promise: await it" : "must be a store"),
    ),
  ),
  formToken: v.optional(v.boolean(), false),
  certificateOf: v.optional(fn),
  signedRequests: v.optional(
    v.strictObject({
      credentialsOf: fn,
      methods: v.optional(v.array(oauth1Entries.signatureMethod.wrapped)),
      windowSeconds: v.optional(v.pipe(v.number(), v.minValue(1), v.maxValue(3600))),
    }),
  ),
  downstream: v.optional(
    v.record(
      text,
      v.pipe(
        v.strictObject({
          audience: v.optional(text),
          resource: v.optional(secureUrl),
          scope: v.optional(scopes),
        }),
        v.check(
          (api) => Object.values(api).some((each) => each !== undefined),
          "must say what the token is to be for: audience, resource or scope",
        ),
      ),
    ),
    {},
  ),
  development: v.optional(v.boolean(), false),
  onProblem: v.optional(fn),
  trace: v.optional(fn),
  platform: v.optional(v.custom<object>((value) => typeof value === "object" && value !== null)),
};

const one = v.strictObject({ ...commonEntries, ...issuerEntries });
const several = v.strictObject({
  ...commonEntries,
  issuers: v.pipe(v.array(v.strictObject(issuerEntries)), v.minLength(1, "must name one at least")),
});

/**
 * Reads a guard's settings.
 *
 * @throws provider.settings-refused naming every mistake
 */
export function readGuardSettings(settings: GuardSettings): {
  readonly common: ResolvedCommon;
  readonly issuers: readonly ResolvedIssuer[];
} {
  if ((settings as { readonly issuers?: unknown } | null | undefined)?.issuers !== undefined) {
    const beside = Object.keys(settings).filter((name) => Object.hasOwn(issuerEntries, name));
    const message = "stands beside `issuers`: it belongs into an entry of that list";
    if (beside.length > 0) refuseSettings(...beside.map((path) => ({ path, message })));
    const { issuers, ...common } = parseSettings(several, settings);
    return {
      common: common as unknown as ResolvedCommon,
      issuers: resolveAll(issuers, (index) => `issuers.${index}.`),
    };
  }
  const all = parseSettings(one, settings);
  return { common: all as unknown as ResolvedCommon, issuers: resolveAll([all], () => "") };
}

function resolveAll(
  issuers: readonly TokenIssuer[],
  pathOf: (index: number) => string,
): readonly ResolvedIssuer[] {
  const findings = issuers.flatMap((each, index) =>
    mistakesOf(each).map(([name, message]) => ({ path: pathOf(index) + name, message })),
  );
  if (issuers.filter(({ introspection }) => introspection !== undefined).length > 1)
    findings.push({
      path: "issuers",
      message: "may have one issuer with introspection: an opaque token does not say whose it is",
    });
  if (findings.length > 0) refuseSettings(...findings);
  return issuers.map(resolve);
}

function mistakesOf(settings: TokenIssuer): readonly (readonly [string, string])[] {
  const { issuer: name, tenants, discovery: by, jwksUri, keys, introspection, client } = settings;
  const hasKeys = jwksUri !== undefined || keys !== undefined;
  const rules: readonly (readonly [boolean, string, string])[] = [
    [
      tenants !== undefined && !name.includes(tenants.placeholder),
      "issuer",
      "must contain the placeholder of `tenants`",
    ],
    [
      /[{}<>]/.test(name.replace(tenants?.placeholder ?? "", "")),
      "issuer",
      "has a placeholder that nothing fills: a name belongs there, or `tenants` declares it",
    ],
    [
      by === "none" && !hasKeys && introspection === undefined,
      "jwksUri",
      "is missing, and so are `keys`: discovery is none",
    ],
    [
      introspection !== undefined && client === undefined,
      "client",
      "is missing, and introspection takes it (RFC 7662 section 2.1)",
    ],
  ];
  return rules.filter(([applies]) => applies).map(([, path, message]) => [path, message]);
}

function resolve({ audience: names, introspection, keys, jwksUri, ...rest }: TokenIssuer): ResolvedIssuer {
  const keySource = keys ?? jwksUri;
  return {
    ...(rest as Omit<ResolvedIssuer, "audience" | "introspection" | "keySource">),
    audience: [names].flat(),
    ...(keySource !== undefined && { keySource }),
    ...(introspection !== undefined && {
      // The schema has filled in what is usual.
      introspection: (introspection === true ? usualIntrospection : introspection) as NonNullable<
        ResolvedIssuer["introspection"]
      >,
    }),
  };
}

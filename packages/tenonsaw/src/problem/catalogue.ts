/**
 * Every failure that can reach a user of the library, in one table. docs/problems.md is generated from it.
 *
 * `expected` says what should have come; `here` what to change in one's own app, `atProvider` what to change in
 * the provider's console; `section` the place in a standard that asks for it; `status` the HTTP status of a page
 * that has to show it.
 */
export interface CatalogueEntry {
  readonly title: string;
  readonly expected: string;
  readonly here?: string;
  readonly atProvider?: string;
  readonly section?: string;
  readonly status: number;
  /** What it may come from, where that is found out when it is raised; what a cause says stands in place of the general. */
  readonly causes?: Readonly<Record<string, Cause>>;
}

/** One of several causes of a problem, by what it changes of the entry. */
export type Cause = Partial<Pick<CatalogueEntry, "title" | "expected" | "here" | "atProvider">>;

/** Why no key fits a token, whoever looks for it. */
const keyCauses = {
  given: {
    title: "None of the keys in the settings fits the token",
    here: "Put the keys that it signs with now into the settings (`metadata.keys`, a guard's `keys`); or leave them out there, so that new ones are found at `jwks_uri`.",
    atProvider: "See with which keys it signs now.",
  },
  "none-published": {
    title: "The provider publishes no keys",
    atProvider: "Publish the signing keys at `jwks_uri`: the list there is empty.",
  },
  unreadable: {
    title: "The provider publishes a key that cannot be read",
    atProvider: "Publish each key as a JSON Web Key: what is wrong with it is named.",
  },
  "keys-nameless": {
    title: "The token names its key, and the published keys have no names",
    atProvider: "Publish each key with its `kid`, the one that tokens name.",
  },
  "token-nameless": {
    title: "The token does not name its key, and several fit",
    atProvider: "Name the key in each token (`kid`), or publish one key only.",
  },
  "other-algorithm": {
    title: "The published key is for another algorithm or use",
    here: "Compare the key at `jwks_uri`, as it is described, with the algorithm of the token.",
    atProvider: "Sign with the algorithm that the key is published for.",
  },
  twice: {
    title: "Two published keys have the name that the token gives",
    atProvider: "Give each key a `kid` of its own.",
  },
} as const satisfies Readonly<Record<string, Cause>>;

/** Why a client is not taken, by how it proves itself. */
const clientCauses = {
  "client-id": {
    title: "The client ID looks like a placeholder",
    here: "Copy `clientId` from the console, and nothing around it.",
  },
  "white-space": {
    title: "The client secret has white space at its ends",
    here: "Take the spaces and line breaks off the secret: they often come with copying.",
  },
  quotes: {
    title: "The client secret has quotes around it",
    here: "Take the quotes off: some files of variables keep them as part of the value.",
  },
  variable: {
    title: "The client secret is the name of a variable",
    here: 'Something was to put the value in its place and did not: set the secret itself, or refer to it by { "env": NAME }.',
  },
  placeholder: {
    title: "The client secret is a placeholder",
    here: "Put the secret from the console in its place.",
  },
  encoding: {
    title: "The client secret has characters that Basic encodes",
    here: "If ID and secret are right, the provider takes them unencoded: set `deviations.basicNotEncoded`, or `clientAuthentication` to client_secret_post.",
    atProvider: "Compare the client's secret and authentication method.",
  },
  certificate: {
    title: "The provider does not take the app for the owner of its certificate",
    here: "Check that the platform's fetch presents the certificate (createCertifiedFetch) and that a proxy does not end TLS before the provider.",
    atProvider: "Compare the registered certificate or its subject with the one that is presented.",
  },
  assertion: {
    title: "The provider does not accept the signed client assertion",
    here: "Register the public part of the key that signs (tenonsaw keys --public), check the clock, and compare the audience: `clientAssertionAudience` sets another.",
    atProvider: "Check that the key and its algorithm are registered for this client.",
  },
  unsent: {
    title: "The provider wants a client to prove itself, and this one's secret was not sent",
    here: 'Take `clientAuthentication: "none"` out.',
  },
  none: {
    title: "The provider wants a client to prove itself, and this one has no secret",
    here: "Give `clientSecret` or `clientKeys`.",
    atProvider: "Or register the app as a public client.",
  },
} as const satisfies Readonly<Record<string, Cause>>;

/** Why an endpoint beside the token endpoint does not do what it is asked for. */
const endpointCauses = (name: string, member: string) =>
  ({
    unusable: {
      title: `The ${name} says that it was done, and leaves something out`,
      atProvider: "Send the members that are named, each of its type.",
    },
    scope: {
      title: "The provider does not give this client the scope",
      here: "Ask for scopes that the provider has, separated by spaces.",
      atProvider: "Allow the scope for this client.",
    },
    "not-allowed": {
      title: `The provider does not let this client use the ${name}`,
      here: "Compare `clientId` with the client that is meant.",
      atProvider: "Allow it for this client.",
    },
    "not-there": {
      title: `What answers at its address is no ${name}`,
      here: `Correct \`metadata.${member}\`, where it was set by hand.`,
      atProvider: "Name the address that is in use in the metadata.",
    },
  }) as const satisfies Readonly<Record<string, Cause>>;

/** What to change where a token or a callback names another issuer than the settings. */
const issuerSpelling = {
  here: "Where the provider has no metadata, copy `issuer` as it is named here: slash and capitals count.",
  atProvider: "Name the issuer everywhere as in the metadata, character for character.",
} as const satisfies Cause;
const issuerNear = {
  here: "Several issuers live there (tenants, policies, versions): take the one that is named as `issuer`, if it is the one you mean, or declare `deviations.tenants`.",
} as const satisfies Cause;

/** Everything that can go wrong, by its code. */
export const catalogue = {
  "platform.insecure-url": {
    title: "An address is not https",
    expected: "an absolute https URL (plain http only on loopback: localhost, 127.0.0.0/8, [::1])",
    here: "Use the https address in your settings.",
    section: "RFC 6749, 3.1.2.1 and 3.2; RFC 8252, 8.3",
    status: 500,
    causes: {
      "no-address": {
        title: "What stands in an address's place is none",
        here: "Hand over all of the address, with its scheme and host.",
      },
    },
  },
  "platform.unreachable": {
    title: "A server could not be reached",
    expected: "an HTTP answer",
    here: "Check the address in your settings, name resolution, and that a proxy or firewall lets this call out.",
    atProvider: "Check that the service is up.",
    status: 502,
    causes: {
      "port-blocked": {
        title: "A port that is kept for other services cannot be asked",
        expected: "a port that HTTP is allowed at (Fetch Standard, port blocking)",
        here: "Check the port in your settings: 1, 9, 22, 25 and others like them are never asked, whatever listens there.",
      },
      "nobody-listens": {
        title: "Nothing listens at an address",
        here: "Check host and port in your settings, and that the service has been started. Inside a container, localhost is that container and nothing else.",
        atProvider: "Check that the service is up.",
      },
      "proxy-unused": {
        title: "A server could not be reached, and the proxy that the environment names was not asked",
        here: "Node's `fetch` does not go by HTTPS_PROXY and HTTP_PROXY by itself: start with NODE_USE_ENV_PROXY=1 (Node 24 and later, and 22.21), or give createPlatform a `fetch` that goes through the proxy. What is reached without it belongs into NO_PROXY.",
      },
      proxy: {
        title: "The proxy that the environment names has let nothing through",
        here: "Check HTTPS_PROXY (HTTP_PROXY for http), the user name and password in it, and that the proxy lets this host through. What is reached without it belongs into NO_PROXY.",
      },
      "name-unknown": {
        title: "A host name is not known",
        here: "Check the host's spelling in your settings, and this machine's name resolution (DNS, /etc/hosts, the container's network).",
      },
      "cut-off": {
        title: "A connection was cut off",
        here: "See whether a proxy or a firewall is between the two, and whether the port speaks the scheme that the settings say.",
        atProvider: "Check that the service is up.",
      },
      "certificate-untrusted": {
        title: "A server's certificate is not trusted here",
        expected: "a certificate of an authority that this machine's Node trusts",
        here: "Where an authority of your own has signed it, name its certificate in the environment variable NODE_EXTRA_CA_CERTS and start again. Never switch the check off.",
        atProvider: "Serve the whole chain of certificates.",
      },
      "certificate-expired": {
        title: "A server's certificate is not valid now",
        expected: "a certificate that is valid today",
        here: "Check this machine's clock and date.",
        atProvider: "Renew the certificate.",
      },
      "certificate-name": {
        title: "A server's certificate is for another host",
        expected: "a certificate for the host in the address",
        here: "Check the host in your settings: the certificate names others.",
        atProvider: "Serve a certificate that names this host.",
      },
      "certificate-wanted": {
        title: "A server wants a certificate of this app",
        here: "Give the platform a fetch of createCertifiedFetch, and register its certificate.",
        atProvider: "Check which certificate is registered for this client.",
      },
      "not-tls": {
        title: "A server does not speak TLS at this port",
        expected: "TLS, as https says",
        here: "Check scheme and port in your settings: the port answers something else than TLS.",
      },
      "not-http": {
        title: "What answers at a port does not speak HTTP",
        here: "Check scheme and port in your settings: the port answers something else than HTTP, as one for https or for a database does.",
      },
      "own-fetch": {
        title: "What the `fetch` of the platform answers is no Response of the web's",
        expected: "a Response as the Fetch Standard has it, its body a web stream that nobody has read",
        here: "Change the `fetch` that createPlatform was given: what a client in another form answers has to be made into `new Response(body, { status, headers })`.",
      },
      "no-way": {
        title: "Nothing gets through to an address",
        here: "Check the host in your settings, and whether this machine may go there: a firewall that drops it, a VPN or a proxy that is needed, a container without a way out.",
      },
      page: {
        title: "A page could not reach a server, or was not let",
        expected: "an answer that this page may read",
        here: "A browser does not say which: the server may be away, its answer may lack Access-Control-Allow-Origin for this page's origin, or a Content-Security-Policy may forbid to ask it (connect-src). Its console and network panel show it. Ask from a server where the provider has no CORS.",
        atProvider: "Allow this page's origin (CORS), where that can be set.",
      },
    },
  },
  "platform.part-not-loaded": {
    title: "A part of Tenonsaw's own code could not be loaded",
    expected: "its file, beside the one that asks for it",
    here: "Deploy every file that the build wrote, not the first one alone: what is seldom needed is a file of its own.",
    status: 500,
    causes: {
      offline: {
        title: "A part of Tenonsaw's own code could not be loaded: there is no network",
        here: "Nothing is wrong with the app: try again when there is a network.",
      },
      page: {
        title: "A part of Tenonsaw's own code could not be loaded by this page",
        here: "Reload the page. Where this comes after a deployment, leave the files of the version before on the server for as long as pages of it are open; where it comes at once, open the file's address: a script has to come, and the page's Content-Security-Policy has to allow it.",
      },
    },
  },
  "platform.too-slow": {
    title: "A server took too long to answer",
    expected: "a complete answer before the deadline",
    here: "Whether it is slow, or nothing gets there, cannot be told from silence: ask it from this machine in another way (`tenonsaw check`, curl). Raise `timeoutSeconds` of the provider only if it is known to be slow.",
    atProvider: "Check that the service is healthy.",
    status: 504,
    causes: {
      unfinished: {
        title: "A server began an answer and did not end it in time",
        here: "Try again; where it stays so, see whether a proxy between the two holds answers back. Raise `timeoutSeconds` of the provider only if it is known to be slow.",
        atProvider: "Check that the service is healthy.",
      },
    },
  },
  "platform.answer-too-large": {
    title: "An answer was too large",
    expected: "an answer within the size limit (1 MiB)",
    here: "Check that the address in your settings is the endpoint you mean, not a page or a download.",
    status: 502,
  },
  "platform.redirected": {
    title: "A server answered with a redirect",
    expected: "a direct answer: redirects are never followed, because they would carry credentials elsewhere",
    here: "Put the final address into your settings.",
    section: "RFC 9700, 4.11",
    status: 502,
  },
  "platform.not-json": {
    title: "An answer is not JSON",
    expected: "a JSON object",
    here: "Check that the address in your settings is the endpoint you mean; a web page often answers when it is not.",
    section: "RFC 6749, 5.1; OpenID Connect Discovery 1.0, 4.2",
    status: 502,
    causes: {
      page: {
        title: "A web page came in place of JSON",
        here: "Put the address of the endpoint itself into your settings: what is there now is a page for people, such as a log-in, a maintenance notice or a gateway.",
      },
      empty: {
        title: "An answer has no body",
        here: "Check that the address in your settings is the endpoint you mean.",
        atProvider: "Answer with a JSON object.",
      },
    },
  },
  "jose.not-compact": {
    title: "The text is not a token in compact form",
    expected: "three parts of base64url separated by dots, the whole pasted without line breaks",
    here: "Where it was pasted, take the whole token, without line breaks or a header name before it.",
    atProvider: "Send tokens that are signed, in compact form.",
    section: "RFC 7515, 7.1",
    status: 403,
  },
  "jose.encrypted": {
    title: "The token is encrypted",
    expected: "a signed token of three parts, not an encrypted one of five",
    atProvider: "Register this client without encrypted ID tokens.",
    section: "RFC 7516, 9",
    status: 403,
  },
  "jose.not-base64url": {
    title: "A part of a token is not base64url",
    expected: "characters A–Z a–z 0–9 - _ only, without padding, in canonical form",
    here: "Take the token as it came: nothing on the way may encode, wrap or cut it.",
    section: "RFC 7515, 2",
    status: 403,
  },
  "jose.not-json": {
    title: "A part of a token is not a JSON object",
    expected: "UTF-8 text of one JSON object, nested at most 32 deep",
    atProvider: "Send a well-formed answer or token; a text that was cut on the way looks like this, too.",
    section: "RFC 7515, 4; RFC 7519, 7.2",
    status: 403,
  },
  "jose.duplicate-member": {
    title: "A JSON object names the same member twice",
    expected: "every member name once",
    atProvider:
      "Name every member once. Until then the answer is not used: two readers could read it differently.",
    section: "RFC 7515, 4; RFC 7519, 4",
    status: 403,
  },
  "jose.token-too-large": {
    title: "A token is too large",
    expected: "a token of at most 64 KiB",
    atProvider: "Put fewer claims into tokens; lists of groups or roles are the usual cause.",
    status: 403,
  },
  "jose.algorithm-refused": {
    title: "A token is signed with an algorithm that is not allowed here",
    expected: "an asymmetric algorithm that both the provider's metadata and this client allow; never `none`",
    here: "Where the client is registered for it on purpose, name it: `idTokenSignedResponseAlg`, or the like for other tokens.",
    atProvider: "Register this client for one of the expected signature algorithms.",
    section: "RFC 8725, 3.1; OpenID Connect Core 1.0, 3.1.3.7 step 7",
    status: 403,
  },
  "jose.critical-unknown": {
    title: "A token demands an extension that is not understood",
    expected: "no `crit` header, or one that names only understood extensions (none)",
    atProvider: "Register this client for plain signed tokens, without extensions.",
    section: "RFC 7515, 4.1.11",
    status: 403,
  },
  "jose.decryption-failed": {
    title: "An encrypted token cannot be decrypted",
    expected: "a token that was encrypted for one of the app's own keys, and not altered",
    here: "Register the public part of the key in `clientKeys`: tenonsaw keys --public prints it.",
    atProvider: "Encrypt with the key that the app has registered.",
    section: "RFC 7516, 5.2 and 11.5",
    status: 502,
  },
  "jose.not-encrypted": {
    title: "A token is not encrypted",
    expected: "an encrypted token, as registered",
    here: "Take the …EncryptedResponseAlg setting out if encryption is not registered.",
    atProvider: "Encrypt for the key that the app has registered.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 1",
    status: 502,
  },
  "jose.key-refused": {
    title: "A key cannot be used",
    expected:
      "a public RSA key of at least 2048 bits, an EC key on P-256, or an Ed25519 key, fit for the algorithm",
    atProvider: "Publish a well-formed key.",
    section: "RFC 7517, 4; RFC 7518, 3.3 and 6; RFC 8037, 2",
    status: 403,
  },
  "jose.header-refused": {
    title: "A token's header has a member of another type than it should",
    expected: "`kid`, `typ` and `cty` as text, where they are there",
    atProvider: "Write the header as the standard has it.",
    section: "RFC 7515, 4.1.4, 4.1.9 and 4.1.10",
    status: 403,
  },
  "jose.key-unknown": {
    title: "No published key fits the token",
    expected: "exactly one signing key in the provider's key set with the token's key ID and algorithm",
    here: "Check that issuer and token belong to the same environment.",
    atProvider: "Publish the key before signing with it.",
    section: "OpenID Connect Core 1.0, 10.1",
    status: 403,
    causes: keyCauses,
  },
  "jose.key-set-refused": {
    title: "A key set cannot be read",
    expected: "a JSON object with a member `keys`, an array of keys",
    here: "Where `metadata.jwksUri`, or a guard's `keys`, was set by hand, correct it.",
    atProvider: "Publish a well-formed key set at `jwks_uri`.",
    section: "RFC 7517, 5",
    status: 502,
  },
  "jose.key-set-unavailable": {
    title: "The provider's keys cannot be had now",
    expected: "an answer with the keys",
    here: "Wait for as long as it says; the keys at hand stay in use meanwhile, where there are some.",
    atProvider: "The provider is busy or out of order: see whether it says so elsewhere.",
    status: 502,
  },
  "jose.signature-mismatch": {
    title: "The signature does not fit the token",
    expected: "a signature made over exactly this token with the named key",
    here: "Check that the token was not altered or cut on the way.",
    section: "RFC 7515, 5.2 step 8",
    status: 403,
  },
  "provider.settings-refused": {
    title: "The settings cannot be used",
    expected: "settings as documented",
    here: "Change the settings that are named with it.",
    status: 500,
  },
  "provider.settings-file-unreadable": {
    title: "The settings file cannot be read",
    expected: "a readable file of JSON (comments allowed)",
    here: "Check the path, or name another file with --settings.",
    status: 500,
    causes: {
      missing: {
        title: "The settings file is not there",
        here: "Start it in the app's folder, or name the file: --settings for the command, the path for readSettingsFile. `tenonsaw init` writes one.",
      },
      "not-allowed": { here: "Give the user who runs this the right to read it." },
      folder: { here: "Name the file in the folder." },
    },
  },
  "provider.other-protocol": {
    title: "This provider speaks another protocol",
    expected: "a provider of OAuth 2.0 or OpenID Connect",
    here: "OAuth 1.0a has no such thing: choose another provider for this.",
    status: 400,
  },
  "provider.secret-missing": {
    title: "A secret is missing",
    expected: "a non-empty value at the place the settings refer to",
    here: "Set the environment variable that the settings name, and start again.",
    status: 500,
    causes: {
      variable: {
        expected: "a non-empty value in the environment variable that the settings name",
        here: "Set the environment variable for this process, and start again.",
      },
      file: {
        expected: "a readable file with the secret and nothing else, at the path that the settings name",
        here: "Check the path, that this process may read it, and that the secret is mounted.",
      },
    },
  },
  "provider.metadata-refused": {
    title: "The provider's metadata cannot be used",
    expected: "provider metadata with all members this client needs",
    here: "Check that `issuer` is the provider's issuer URL.",
    atProvider: "Publish the missing or malformed member.",
    section: "OpenID Connect Discovery 1.0, 3 and 4.2",
    status: 502,
    causes: {
      "own-setting": {
        title: "The provider does not offer what the settings ask for",
        expected: "settings that the metadata lists",
        here: "Change the setting that is named with it to one of what the metadata lists.",
        atProvider: "Or allow it for this client, and list it.",
      },
      "by-hand": {
        title: "What the settings say of the provider cannot be used",
        here: "Change or add what is named in the provider's `metadata` in the settings: `idTokenSigningAlgValuesSupported`, `pushedAuthorizationRequestEndpoint`.",
      },
    },
  },
  "provider.unavailable": {
    title: "The provider is busy or out of order",
    expected: "an answer that is neither 429 nor of 500 and more",
    here: "Wait for as long as it says; whoever is signed in stays so, and tokens that are good are used.",
    atProvider: "See whether the provider says so elsewhere.",
    section: "RFC 9110, 10.2.3, 15.5 and 15.6",
    status: 503,
  },
  "provider.metadata-not-found": {
    title: "The provider publishes no metadata at this address",
    expected: "status 200 and a JSON object",
    here: "Check `issuer`: scheme, host, port, path and a trailing slash all count.",
    section: "OpenID Connect Discovery 1.0, 4",
    status: 502,
    causes: {
      "no-such-address": {
        here: 'Check `issuer`: scheme, host, port and path all count. A provider of plain OAuth 2.0 may have its metadata elsewhere (`discovery: "oauth"`), or none (`discovery: "none"` and `metadata`).',
      },
      "metadata-url": {
        title: "The provider publishes no metadata where the settings say",
        here: "Check `deviations.metadataUrl`: scheme, host, port and path all count. Left out, the metadata is looked for below `issuer`.",
      },
      "no-smart-configuration": {
        title: "The host publishes no SMART configuration at this address",
        here: 'Check `issuer`: it is the base URL of the FHIR server, path and all. A provider that opens no apps has its metadata elsewhere: leave `discovery: "smart"` out.',
      },
      "no-oauth-metadata": {
        here: 'Check `issuer`. An OpenID provider has its metadata elsewhere: leave `discovery: "oauth"` out. Where there is none: `discovery: "none"` and `metadata`.',
      },
      "metadata-address": {
        title: "The issuer in the settings is the address of metadata",
        here: "Leave off `/.well-known/` and what follows it, or copy `issuer` from the metadata that is at this address.",
      },
      "not-allowed": {
        title: "The provider's metadata is not for everybody",
        expected: "status 200 without credentials",
        here: "Check that nothing between (a gateway, a VPN, a preview password) asks for credentials.",
        atProvider: "Metadata is public: open the address.",
      },
    },
  },
  "provider.issuer-mismatch": {
    title: "The metadata names another issuer",
    expected: "exactly the issuer in the settings, character for character",
    here: "Copy `issuer` from the provider's metadata, including or leaving out the trailing slash as it stands there.",
    section: "OpenID Connect Discovery 1.0, 4.3",
    status: 502,
    causes: {
      slash: {
        title: "The metadata names the issuer with another end",
        here: "Copy `issuer` from the metadata: the slash at its end counts.",
      },
      letters: {
        title: "The metadata writes the issuer with other capitals",
        here: "Copy `issuer` from the metadata: capitals count.",
      },
      placeholder: {
        title: "The metadata names a placeholder for the tenant",
        expected: "the issuer in the settings, or a placeholder that `deviations.tenants` declares",
        here: "Copy `issuer` from the metadata, placeholder and all, and declare it: `deviations.tenants` with `placeholder` and `admitted`.",
      },
      path: {
        title: "The metadata is that of another issuer at the same place",
        here: "Several issuers live there (tenants, policies, versions): copy `issuer` from the metadata, if that is the one you mean. Where each policy has a document of its own, name it in `deviations.metadataUrl`.",
      },
      elsewhere: {
        title: "The metadata names an issuer at another origin",
        here: "Check that `issuer` is of this environment. Where the provider has moved, copy the new one; where it names another on purpose, `deviations.expectedIssuer` says so.",
      },
    },
  },
  "provider.registration-not-offered": {
    title: "The provider does not register apps by request",
    expected: "a `registration_endpoint` in the provider's metadata",
    here: "Register in the provider's console: `tenonsaw sheet` prints what to paste.",
    section: "RFC 7591, 3",
    status: 502,
  },
  "provider.registration-refused": {
    title: "The provider did not register the app",
    expected: "status 201 and a client_id",
    here: "Compare the values that were sent with what the provider allows.",
    atProvider: "Allow what was sent, or say in `error` what of it is not.",
    section: "RFC 7591, 3.2.2",
    status: 502,
    causes: {
      unusable: {
        title: "The provider says that it has registered the app, and leaves something out",
        atProvider: "Send the members that are named, each of its type.",
      },
      "no-token": {
        title: "The provider registers nobody who brings no initial access token",
        here: "Ask the provider for an initial access token, and hand it over.",
      },
      "token-refused": {
        title: "The provider does not take the initial access token",
        here: "Ask the provider for another one: many are good for one registration, or for a day.",
      },
    },
  },
  "provider.tenant-refused": {
    title: "The person belongs to a tenant that is not admitted",
    expected: "a tenant that `deviations.tenants.admitted` names",
    here: "Add the tenant to `deviations.tenants.admitted` if its people may sign in.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 2",
    status: 403,
  },
  "provider.unknown": {
    title: "No provider of this name",
    expected: "the name of a provider in the settings",
    here: "Link to a provider that the settings name, or add it to the settings.",
    status: 404,
  },
  "provider.not-open": {
    title: "What was handed over as the provider is none",
    expected: "what openProvider gives in the end",
    here: "Hand over the provider first of all, and put `await` before openProvider.",
    status: 500,
  },
  "provider.not-for-sign-in": {
    title: "This provider is for connecting accounts, not for signing in",
    expected: "a provider that people sign in with",
    here: "Send people to connect an account instead (`signIn.ask(request, { provider })` does), or set `connections.<provider>.alsoForSignIn`.",
    status: 403,
  },
  "provider.client-key-refused": {
    title: "The app's own signing keys are not usable",
    expected: "a private JWK, or a JWK Set of them, each with alg, kid and its private part",
    here: "Make one with: tenonsaw keys --signing ES256 --out <file>",
    section: "RFC 7517, 4 and 5; RFC 7523, 3",
    status: 500,
    causes: {
      pem: {
        title: "The app's own signing key is in PEM",
        here: "Keys go in as JSON Web Keys: make one with tenonsaw keys --signing ES256 --out <file>, and register its public part.",
      },
      path: {
        title: "In place of the app's own signing keys stands a short text",
        here: "Where it is a path, or a variable's name: { file: PATH } or { env: NAME }.",
      },
      unfit: {
        title: "The app's own signing key does not fit its algorithm",
        here: "Make another with: tenonsaw keys --signing ES256 --out <file>, and register its public part.",
      },
    },
  },
  "attempt.redirect-uri-refused": {
    title: "The redirect URI cannot be used",
    expected: "an absolute URI without fragment, https or loopback http",
    here: "Correct the redirect URI.",
    section: "RFC 6749, 3.1.2",
    status: 500,
  },
  "attempt.parameters-refused": {
    title: "What is asked for cannot be asked for",
    expected: "values that the standards allow",
    here: "Correct what is named where it is asked for.",
    section: "OpenID Connect Core 1.0, 3.1.2.1; RFC 8707, 2",
    status: 400,
    causes: {
      "not-text": {
        title: "Something that is asked for is no text",
        expected: "redirectUri, scope, prompt and the like as texts, several values with spaces between them",
        here: 'Make a text of what is named: scopes.join(" "), url.href.',
      },
      absent: {
        title: "Something that has to be named is not there",
        expected: "what is named, as a text",
        here: "Hand over what is named, by this name.",
      },
      unknown: {
        title: "Something is asked for by a name that there is not",
        here: "Correct the name: what is passed over would not be asked for, nor held against the answer.",
      },
      "no-request": {
        title: "Nothing says what to ask for",
        expected: "an object with `redirectUri`, at least",
        here: "Hand over where the provider sends the browser back to: beginSignIn(provider, { redirectUri }).",
      },
      "no-device": {
        title: "What was handed over as the device is none",
        expected: "what requestDeviceCode gives in the end",
        here: "Hand over what requestDeviceCode answers, and put `await` before it.",
      },
      "no-signal": {
        title: "What was handed over as the signal is none",
        expected: "an AbortSignal",
        here: "Hand over the `signal` of an AbortController, or AbortSignal.timeout(…).",
      },
      seconds: {
        title: "A number of seconds is none",
        expected: "whole seconds, 0 or more",
        here: "Correct `maxAge`.",
      },
      prompt: {
        title: "What is asked for contradicts itself",
        expected: "prompt `none` alone",
        here: "Take `none` away, or everything else: it asks that nobody is asked.",
      },
      resource: {
        title: "What names an API is no absolute URI",
        expected: "a list of absolute URIs without fragment",
        here: "Correct `resource`.",
      },
      scope: {
        title: "A scope has characters that no scope has",
        expected:
          "values separated by spaces, none with quotes, backslashes, control characters or letters beyond ASCII",
        here: "Correct `scope` where the link or form is made.",
      },
      "too-long": {
        title: "What is asked for is too long, or has control characters",
        here: "See where the value comes from that the link is made with.",
      },
      kind: {
        title: "No session kind of this name",
        here: "Correct the name where the link is made, or add the kind to `sessionKinds`.",
      },
    },
  },
  "attempt.parameter-unknown": {
    title: "An address asks for what there is not, and that is passed over",
    expected: "a parameter that the route has",
    here: "Correct the name where the link is made.",
    status: 500,
    causes: {
      protocol: {
        title: "A link asks for what only the app's settings can, and that is passed over",
        here: "What every sign-in asks for goes into the settings (`resource`, `audience`, `deviations.authorizationParameters`); to have somebody prove anew who they are, a link has `maxAge=0`.",
      },
      value: {
        title: "An address asks for a window in which no sign-in can be, and that is passed over",
        expected: "in=pop-up, or no `in`",
        here: "Correct the value where the link is made.",
      },
    },
  },
  "attempt.other-host": {
    title: "A sign-in begins at another address than `origin`, and comes back there without its cookie",
    expected: "the browser at `origin`",
    here: "Open the app at `origin`, or set `origin` to the address that people use. Behind a proxy that writes its own Host, say so by `proxies`.",
    status: 500,
  },
  "attempt.request-refused": {
    title: "The provider refuses the authorization request",
    expected: "status 201 with a request_uri",
    here: "Compare redirect URI, scope and client ID with the registration: `tenonsaw sheet` prints them.",
    atProvider: "Register exactly the redirect URI that is sent.",
    section: "RFC 9126, 2.2 and 2.3",
    status: 502,
    causes: {
      ...endpointCauses("endpoint for pushed requests", "pushedAuthorizationRequestEndpoint"),
      "other-status": {
        title: "The provider takes the authorization request with another status than 201",
        atProvider: "Answer with 201: that is how it is told that a request was taken.",
      },
    },
  },
  "response.empty": {
    title: "The callback was opened without an answer from a provider",
    expected: "the parameters a provider adds when it sends the browser back",
    here: "Nothing to change: a bookmark, a prefetch or a typed address does this. Start again at the sign-in page.",
    status: 400,
    causes: {
      "no-address": {
        title: "What was handed over as the callback is no address",
        expected: "the URL that the browser came back to, or its query parameters",
        here: "Hand over the address: request.url, location.href.",
      },
    },
  },
  "response.parameter-duplicated": {
    title: "The callback names a parameter twice",
    expected: "each response parameter once",
    atProvider: "Send each parameter once. If it does, something on the way to the app repeats the query.",
    section: "RFC 6749, 3.1",
    status: 400,
  },
  "response.parameter-too-long": {
    title: "A callback parameter that is to be kept is too long",
    expected: "at most 1,024 characters",
    here: "Take it out of `deviations.keepCallbackParameters`, if the app does not need it.",
    status: 400,
  },
  "response.state-missing": {
    title: "The callback carries no state",
    expected: "the `state` of the request, unchanged",
    here: "Sign-in must start in this app; a link that starts at the provider cannot be answered.",
    atProvider: "Return the `state` parameter.",
    section: "RFC 6749, 4.1.2 and 10.12",
    status: 400,
  },
  "response.state-altered": {
    title: "The state was altered, or no such sign-in was begun here",
    expected: "the `state` of a sign-in that this app began, unchanged",
    here: "Check that nothing rewrites the callback's query, and that all processes of the app share one store.",
    section: "RFC 6749, 10.12",
    status: 400,
    causes: {
      cleared: {
        title: "No such sign-in was begun in this browser, or what it kept is gone",
        expected: "the `state` of a sign-in that this browser began, at this origin",
        here: "Start the sign-in again. Where it happens every time: the redirect URI is at another origin than the page that begins it, or the browser keeps no storage for this one.",
      },
      "no-attempt": {
        title: "There is no attempt that this answer could belong to",
        expected: "the `attempt` of beginSignIn, kept for the browser until it comes back",
        here: "Hand over the attempt as it was, parsed where it was kept as text: beginSignIn answers `url` and `attempt`. Where nothing was kept, start again: what keeps it may have lost it, or be another browser's.",
      },
      restarted: {
        title: "The sign-in began before this process did, or in another one, and nothing of it is kept",
        expected: "a store that outlives a restart, and that all processes share",
        here: "Start the sign-in again. createMemoryStore forgets everything at a restart and knows of no other process: in production use another store.",
      },
    },
  },
  "response.attempt-too-old": {
    title: "The sign-in took too long",
    expected: "the browser back within ten minutes",
    here: "Nothing to change: start again.",
    status: 400,
  },
  "response.attempt-used": {
    title: "This answer was used already",
    expected: "each answer of a provider once",
    here: "Nothing to change: the back button or a double click does this.",
    section: "RFC 9700, 4.2.4",
    status: 400,
  },
  "response.other-host": {
    title: "The sign-in began at another host than it ended",
    expected:
      "the browser at the host of `origin` from beginning to end: cookies do not travel between hosts",
    here: "Open the app at the host of `origin` in the settings (localhost and 127.0.0.1 are two hosts), or change `origin`.",
    section: "RFC 6265, 5.1.3",
    status: 400,
  },
  "response.cookie-missing": {
    title: "The browser did not send back the sign-in cookie",
    expected: "the cookie set when the sign-in began",
    here: "Check that a proxy passes Cookie and Set-Cookie, that the page runs on https or loopback, and that the browser accepts cookies.",
    section: "RFC 6749, 10.12",
    status: 400,
    causes: {
      frame: {
        title: "The sign-in came back in a frame, where browsers send no cookie",
        expected: "the answer in the window itself",
        here: "Open the sign-in in the window or in a pop-up (`?in=pop-up`), not in a frame.",
      },
      "no-cookies": {
        here: "No cookie at all came. Either this is another browser than the one it began in (an app on a phone hands links to another one, a private window has its own), or something between takes the header Cookie out: look at the request where it leaves the browser.",
      },
      "others-only": {
        here: "Other cookies came, so nothing takes the header out. The one for signing in was deleted, has run out (an hour), or was never taken: look at the answer at the beginning whether Set-Cookie reached the browser, and whether a proxy changed its Path or Domain.",
      },
      insecure: {
        title: "The browser keeps the sign-in cookie back from a page without TLS",
        expected: "https from beginning to end, as `origin` says",
        here: "Open the app by https, or change `origin`: its cookie goes over https only.",
      },
    },
  },
  "response.other-browser": {
    title: "The sign-in was begun in another browser",
    expected: "the answer in the browser that asked for it",
    here: "Nothing to change: a copied callback address, or somebody tried to sign you in as themselves.",
    section: "RFC 9700, 4.7",
    status: 400,
  },
  "response.issuer-missing": {
    title: "The callback does not name its issuer",
    expected: "the parameter `iss`, which the provider's metadata promises",
    atProvider: "Return `iss`, or stop promising it.",
    section: "RFC 9207, 2.4",
    status: 400,
  },
  "response.issuer-mismatch": {
    title: "The callback names another issuer",
    expected: "the issuer that the browser was sent to",
    here: "Somebody may be mixing up two providers. Check that each provider has a redirect URI of its own.",
    section: "RFC 9207, 2.4; RFC 9700, 4.4",
    status: 400,
    causes: {
      slash: { title: "The callback writes the issuer with another end", ...issuerSpelling },
      letters: { title: "The callback writes the issuer with other capitals", ...issuerSpelling },
      path: { title: "The callback names another issuer at the same place", ...issuerNear },
    },
  },
  "response.mode-mismatch": {
    title: "The provider's answer came in another way than was asked for",
    expected: "the way that `responseMode` names",
    here: "Compare `responseMode` with what the provider offers (response_modes_supported).",
    section: "OAuth 2.0 Multiple Response Type Encoding Practices 1.0, 2.1",
    status: 400,
  },
  "response.not-signed": {
    title: "The provider's answer is not signed",
    expected: "the parameter `response` with a JWT, and nothing else",
    here: "Compare `responseMode` with what the provider offers (response_modes_supported).",
    section: "JWT Secured Authorization Response Mode, 2.3 and 2.4",
    status: 400,
  },
  "response.jwt-refused": {
    title: "The provider's signed answer is not for this app, or too old",
    expected: "aud with this client ID, and exp that is not over",
    here: "Compare the client ID with the registration; check the clock.",
    section: "JWT Secured Authorization Response Mode, 2.4",
    status: 400,
    causes: {
      audience: {
        title: "The provider's signed answer is for another client",
        expected: "this client's ID in `aud`",
        here: "Compare `clientId` with the registration.",
      },
      time: {
        title: "The provider's signed answer is too old, or does not say how old it is",
        expected: "`exp` in the future",
        here: "Check this machine's clock.",
        atProvider: "Check its clock, and that `exp` is in what it signs.",
      },
    },
  },
  "response.token-unasked": {
    title: "A token came that was not asked for",
    expected: "exactly what the response type names",
    here: "Somebody may have tampered with the address. If it happens to everybody, compare `responseType`.",
    section: "OAuth 2.0 Multiple Response Type Encoding Practices 1.0, 3",
    status: 400,
  },
  "response.code-missing": {
    title: "The callback carries neither a code nor an error",
    expected: "the parameter `code`",
    atProvider: "Answer with response type `code`.",
    section: "RFC 6749, 4.1.2",
    status: 400,
  },
  "response.provider-error": {
    title: "The provider answered with an error",
    expected: "an authorization code",
    here: "Look up the error that came; `invalid_scope`, `invalid_request` and `unauthorized_client` are about your settings or the registration.",
    atProvider: "Compare the registration (redirect URI, scopes, response type) with the settings.",
    section: "RFC 6749, 4.1.2.1; OpenID Connect Core 1.0, 3.1.2.6",
    status: 400,
    causes: {
      scope: {
        title: "The provider refuses the scope",
        expected: "a scope that the provider knows and allows for this client",
        here: "Correct `scope`: what is asked for, and what of it the metadata does not list, is named with it.",
        atProvider: "Allow the scope for this client.",
      },
      "response-type": {
        title: "The provider refuses the response type",
        here: "Change `responseType` to one that the metadata lists.",
        atProvider: "Allow the response type for this client.",
      },
      client: {
        title: "The provider does not allow this client to ask",
        here: "Compare `clientId` and `responseType` with the registration.",
        atProvider: "Allow this client the authorization code grant, and this redirect URI.",
      },
      request: {
        title: "The provider does not understand the request",
        here: "Read its description. A parameter that it wants, or does not want, goes into `deviations.authorizationParameters`.",
        atProvider: "Compare the registration (redirect URI, scopes, response type) with the settings.",
      },
      launch: {
        title: "The host does not take the launch, or the request that came of it",
        here: "Read what it says. A launch value is good once, and for a short while: open the app from the host once more. Where it comes back every time, compare `issuer`, `clientId` and `scope` with the registration.",
        atProvider:
          "Compare the registration (launch URL, redirect URI, scopes) with the settings: tenonsaw sheet has them.",
      },
      person: {
        title: "The provider needs the person, and was told not to ask",
        expected: "an answer without asking anybody (prompt none)",
        here: "Sign in again without `prompt` none.",
      },
      "out-of-order": {
        title: "The provider is busy or out of order",
        here: "Try again later; nothing in the settings does this.",
        atProvider: "See whether it says so elsewhere.",
      },
    },
  },
  "grant.answer-refused": {
    title: "The token answer cannot be used",
    expected: "a token answer with access_token, token_type and, when given, a lifetime that is not negative",
    atProvider: "Answer as the standard says.",
    section: "RFC 6749, 5.1",
    status: 502,
  },
  "grant.token-type-refused": {
    title: "The access token is of an unknown type",
    expected: "token_type Bearer",
    atProvider: "Register this client for bearer tokens.",
    section: "RFC 6749, 7.1; RFC 6750, 4",
    status: 502,
  },
  "grant.client-refused": {
    title: "The provider does not accept this client",
    expected: "client ID and secret as registered, sent in the way registered",
    here: "Check `clientId`, the secret and `clientAuthentication`, and that they belong to this environment.",
    atProvider: "Compare the client's secret and authentication method.",
    section: "RFC 6749, 5.2 (invalid_client)",
    status: 502,
    causes: clientCauses,
  },
  "grant.code-refused": {
    title: "The provider does not accept the code",
    expected: "a fresh code, with the redirect URI and code verifier of its request",
    here: "Check that nothing else redeems the code, and that the callback is not loaded twice.",
    atProvider: "Compare the registered redirect URI.",
    section: "RFC 6749, 5.2 (invalid_grant)",
    status: 502,
  },
  "grant.refresh-refused": {
    title: "The provider took the refresh token back",
    expected: "a refresh token that is still good",
    here: "Let the person sign in again.",
    atProvider: "Check whether consent was withdrawn, the account locked, or the refresh token used twice.",
    section: "RFC 6749, 5.2 (invalid_grant); RFC 9700, 4.14",
    status: 403,
  },
  "grant.not-a-grant": {
    title: "What was handed over is no grant",
    expected: "the grant of an outcome, or of refreshGrant",
    here: "Hand over the whole grant, and not a token of it.",
    status: 500,
    causes: {
      outcome: { here: "Hand over the outcome's `grant`: it has one where its `kind` is granted." },
      promise: { here: "Put `await` before what makes it: it is not there yet." },
    },
  },
  "grant.no-refresh-token": {
    title: "There is no refresh token",
    expected: "a grant with a refresh token",
    here: "Ask for the scope that yields one (often `offline_access`).",
    section: "OpenID Connect Core 1.0, 11",
    status: 403,
  },
  "grant.provider-error": {
    title: "The token endpoint answered with an error",
    expected: "tokens",
    here: "Look up the error that came, and compare your settings with it.",
    atProvider: "Compare the registration.",
    section: "RFC 6749, 5.2",
    status: 502,
    causes: {
      "not-there": {
        title: "What answers at the token endpoint's address is no token endpoint",
        expected: "status 200 with tokens, or 400 or 401 with an error code",
        here: "Compare the address in the metadata, or `metadata.tokenEndpoint` in the settings, with the provider's documentation.",
        atProvider: "Check that its metadata names the token endpoint that is in use.",
      },
      "other-status": {
        title: "The token endpoint sends tokens with another status than 200",
        expected: "status 200 with tokens",
        atProvider: "Answer with 200: whoever sees another status does not take what comes for tokens.",
      },
      "no-code": {
        title: "The token endpoint refuses without saying why in the standard's words",
        expected: "status 400 or 401 with an error code",
        here: "Read what it says, where it says something, and compare client ID, secret and redirect URI with the registration.",
        atProvider: "Look into its log, and answer with an `error` of the standard.",
      },
      "grant-type": {
        title: "The provider does not let this client ask for tokens in this way",
        here: "Compare `clientId` with the client that is meant.",
        atProvider:
          "Allow this client the grant type: authorization_code for signing in, refresh_token, or what the app asks for.",
      },
      scope: {
        title: "The provider does not give this client the scope",
        here: "Ask for scopes that the provider has, separated by spaces.",
        atProvider: "Allow the scope for this client.",
      },
    },
  },
  "grant.unavailable": {
    title: "The token endpoint is not available",
    expected: "an answer with status 200, or 400/401 and an error code",
    here: "Try again later.",
    atProvider: "Check that the service is healthy.",
    section: "RFC 9110, 15.6",
    status: 502,
  },
  "grant.device-not-offered": {
    title: "The provider does not offer device authorization",
    expected: "metadata with device_authorization_endpoint",
    here: "Sign in with a browser on this machine instead.",
    atProvider: "Allow device authorization for this client.",
    section: "RFC 8628, 4",
    status: 500,
  },
  "grant.device-refused": {
    title: "The provider refuses to begin device authorization",
    expected: "a device code, a user code, and where to enter it",
    here: "Compare scope and client ID with the registration.",
    atProvider: "Allow device authorization for this client.",
    section: "RFC 8628, 3.2",
    status: 502,
    causes: endpointCauses("device authorization endpoint", "deviceAuthorizationEndpoint"),
  },
  "grant.device-expired": {
    title: "The code was not entered in time",
    expected: "a person who enters the code on another device before it expires",
    here: "Begin again, and show the new code.",
    section: "RFC 8628, 3.5",
    status: 400,
  },
  "grant.device-ended": {
    title: "Waiting for the other device was ended",
    expected: "a person who enters the code on another device",
    here: "Nothing: the app, or the person at it, ended it.",
    status: 400,
  },
  "grant.revocation-refused": {
    title: "The provider did not revoke the token",
    expected: "status 200 from the revocation endpoint",
    atProvider: "Check that this client may revoke its tokens; until then they end by themselves.",
    section: "RFC 7009, 2.2",
    status: 502,
    causes: {
      ...endpointCauses("revocation endpoint", "revocationEndpoint"),
      "not-listed": {
        title: "The provider does not let this client prove itself in its way at the revocation endpoint",
        here: "Set `clientAuthentication` to a way that both endpoints list, or leave tokens to end by themselves (`signOut.revokeTokens`).",
        atProvider: "List the client's authentication in `revocation_endpoint_auth_methods_supported`.",
      },
    },
  },
  "identity.id-token-missing": {
    title: "There is no ID token",
    expected: "an ID token in the token answer, because `openid` was asked for",
    here: "Check that `scope` contains openid.",
    atProvider: "Check that the client may ask for openid.",
    section: "OpenID Connect Core 1.0, 3.1.3.3",
    status: 502,
  },
  "identity.claim-missing": {
    title: "The ID token lacks a claim",
    expected: "the claims iss, sub, aud, exp and iat, each of its type",
    atProvider: "Put the missing claims into ID tokens.",
    section: "OpenID Connect Core 1.0, 2",
    status: 403,
    causes: {
      kind: {
        title: "A claim of the ID token is of another kind than it has to be",
        atProvider: "Send the claims that are named as the standard has them.",
      },
    },
  },
  "identity.issuer-mismatch": {
    title: "The ID token is from another issuer",
    expected: "exactly the provider's issuer",
    here: "Check that issuer and client belong to the same environment.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 2",
    status: 403,
    causes: {
      slash: { title: "The token writes its issuer with another end", ...issuerSpelling },
      letters: { title: "The token writes its issuer with other capitals", ...issuerSpelling },
      path: { title: "The token is from another issuer at the same place", ...issuerNear },
    },
  },
  "identity.audience-mismatch": {
    title: "The ID token is for another client",
    expected: "this client's ID in `aud`, and no audience beside it that is not trusted",
    here: "Check `clientId`.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 3",
    status: 403,
  },
  "identity.audience-untrusted": {
    title: "An ID token is also for somebody whom the settings do not trust",
    expected: "this client as the only audience, or others that `trustedAudiences` names",
    here: "Put the other audience into `trustedAudiences` of the provider, if tokens may be shared with it.",
    atProvider: "Issue ID tokens to this client alone.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 3",
    status: 403,
  },
  "identity.authorized-party-missing": {
    title: "The ID token has several audiences and does not say who asked for it",
    expected: "`azp` with this client's ID",
    atProvider: "Put `azp` into ID tokens for several audiences, or issue them for this client alone.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 4",
    status: 403,
  },
  "identity.authorized-party-mismatch": {
    title: "The ID token was asked for by another client",
    expected: "this client's ID in `azp`",
    here: "Check `clientId`; a token that another client asked for is not for this app.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 5",
    status: 403,
  },
  "identity.token-kind-mismatch": {
    title: "A token says that it is of another kind than an ID token",
    expected: "`typ` JWT, or none",
    atProvider: "Send an ID token where one belongs.",
    section: "RFC 8725, 3.11 and 3.12",
    status: 403,
  },
  "identity.refreshed-otherwise": {
    title: "A refresh has brought an ID token that does not fit the sign-in",
    expected: "the issuer, subject, audience and time of authentication of the sign-in",
    atProvider: "Issue ID tokens at a refresh for the person whose refresh token it is.",
    section: "OpenID Connect Core 1.0, 12.2",
    status: 502,
  },
  "identity.expired": {
    title: "The ID token has expired",
    expected: "`exp` in the future (60 seconds of tolerance)",
    here: "Check this machine's clock.",
    atProvider: "Check the provider's clock and the token's lifetime.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 9",
    status: 403,
    causes: {
      lifetime: {
        title: "The ID token was over when it was made",
        atProvider: "Give ID tokens a lifetime: `exp` comes after `iat`.",
      },
    },
  },
  "identity.not-yet-valid": {
    title: "The ID token is not valid yet",
    expected: "`iat` and `nbf` not in the future (60 seconds of tolerance)",
    here: "Check this machine's clock.",
    atProvider: "Check the provider's clock.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 10; RFC 7519, 4.1.5",
    status: 403,
    causes: {
      later: {
        title: "The ID token counts only from later on",
        atProvider: "Let ID tokens count from when they are made: leave `nbf` out, or make it `iat`.",
      },
    },
  },
  "identity.nonce-missing": {
    title: "The ID token has no nonce",
    expected: "the nonce of the request",
    atProvider: "Return the nonce in the ID token.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 11",
    status: 403,
  },
  "identity.nonce-mismatch": {
    title: "The ID token belongs to another sign-in",
    expected: "the nonce of the request, unchanged",
    here: "Start again. If it comes back every time, something caches the provider's answers, or plays them again.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 11",
    status: 403,
  },
  "identity.authentication-class-mismatch": {
    title: "The person did not prove who they are in the way that was asked for",
    expected: "an `acr` among those asked for",
    here: "Ask for a class that the provider offers (acr_values_supported), or none.",
    atProvider: "Allow this app to ask for that authentication.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 12",
    status: 403,
  },
  "identity.authentication-too-old": {
    title: "It is too long since the person proved who they are",
    expected: "an `auth_time` within maxAge",
    here: "Ask again with prompt `login`.",
    atProvider: "Respect max_age, and send auth_time when it is asked for.",
    section: "OpenID Connect Core 1.0, 3.1.3.7 step 13",
    status: 403,
  },
  "identity.code-hash-mismatch": {
    title: "The code is not the one the ID token was issued with",
    expected: "the hash of the code in `c_hash`",
    here: "Somebody may have put another code into the answer. Sign in again.",
    section: "OpenID Connect Core 1.0, 3.3.2.10",
    status: 400,
  },
  "identity.state-hash-mismatch": {
    title: "The state is not the one the ID token was issued with",
    expected: "the hash of the state in `s_hash`",
    here: "Somebody may have put another state into the answer. Sign in again.",
    section: "Financial-grade API 1.0 part 2, 5.1.1",
    status: 400,
  },
  "identity.channels-differ": {
    title: "Two ID tokens of one sign-in do not agree",
    expected: "the same issuer, subject and authentication in both",
    atProvider:
      "Report it: the one through the browser and the one from the token endpoint name different things.",
    section: "OpenID Connect Core 1.0, 3.3.3.6",
    status: 400,
  },
  "identity.access-token-hash-mismatch": {
    title: "ID token and access token do not belong together",
    expected: "`at_hash` of the access token beside it",
    atProvider:
      "Send ID token and access token of one answer. Something on the way may have exchanged one of them.",
    section: "OpenID Connect Core 1.0, 3.1.3.8",
    status: 403,
  },
  "identity.userinfo-refused": {
    title: "The userinfo endpoint did not answer with claims",
    expected: "status 200 and a JSON object with `sub`",
    atProvider:
      "Check that the access token may be used at the userinfo endpoint, and that it answers in JSON.",
    section: "OpenID Connect Core 1.0, 5.3",
    status: 502,
    causes: {
      "no-endpoint": {
        title: "Nothing says who has signed in",
        here: "Set `metadata.userinfoEndpoint`, or, where the token answer says who it is, `deviations.identityInTokenAnswer`.",
      },
      "token-refused": {
        title: "The userinfo endpoint refuses the access token",
        here: "Ask for the scopes that it takes: `openid profile`, or what the provider calls them.",
        atProvider: "Allow this client's access tokens at the userinfo endpoint.",
      },
      "not-there": {
        title: "There is no userinfo endpoint at its address",
        here: "Correct `metadata.userinfoEndpoint`, where it was set by hand.",
        atProvider: "Correct `userinfo_endpoint` in the metadata.",
      },
      page: {
        title: "A page for people answers at the userinfo endpoint",
        here: "Correct `metadata.userinfoEndpoint`, where it was set by hand; a path that a browser shows is seldom it.",
        atProvider: "Answer in JSON, whatever a request says in Accept.",
      },
      form: {
        title: "The userinfo endpoint answers in another form than is registered",
        here: "Set `userinfoSignedResponseAlg` and `userinfoEncryptedResponseAlg` to what is registered; leave them out where nothing is.",
        atProvider: "Look at which form is registered for this client.",
      },
    },
  },
  "identity.profile-field-missing": {
    title: "A field that is needed is not in the provider's profile",
    expected: "a value at one of the pointers of the profile mapping",
    here: "Correct `profile` in the settings: the members that were there are named above. Where none says who it is, ask elsewhere: a userinfo endpoint, or the ID token.",
    section: "RFC 6901, 4",
    status: 502,
  },
  "identity.userinfo-subject-mismatch": {
    title: "Userinfo is about somebody else",
    expected: "the subject of the ID token",
    atProvider: "Send the same `sub` in ID token and userinfo.",
    section: "OpenID Connect Core 1.0, 5.3.2",
    status: 403,
  },
  "identity.claims-issuer-untrusted": {
    title: "Claims about the person come from an issuer that is not trusted",
    expected: "one of `trustedClaimsIssuers`",
    here: "Name the issuer there, if its word is to count; the claims are left out otherwise.",
    section: "OpenID Connect Core 1.0, 5.6.2",
    status: 502,
  },
  "identity.logout-token-refused": {
    title: "A notice of sign-out is not acceptable",
    expected: "a logout token of this provider, for this app, told once",
    here: "Compare client ID and issuer with the registration; check the clock.",
    atProvider: "Check the back-channel logout URI: each app has its own.",
    section: "OpenID Connect Back-Channel Logout 1.0, 2.6",
    status: 400,
    causes: {
      absent: {
        title: "What came for a notice of sign-out has no logout token in it",
        expected: "a form with one logout_token",
        here: "Nothing, where a stranger has found this address.",
        atProvider: "Send the token as a form (application/x-www-form-urlencoded).",
      },
      again: { title: "This notice of sign-out was followed before", here: "Nothing: it counts once." },
      form: {
        title: "A notice of sign-out is not made as the standard has it",
        here: "Nothing: it is the provider's.",
        atProvider: "Send logout tokens as they should be: see what is expected.",
      },
    },
  },
  "identity.front-channel-refused": {
    title: "A sign-out in a frame does not say whose",
    expected: "iss and sid of this provider",
    atProvider: "Register the front-channel logout URI with frontchannel_logout_session_required.",
    section: "OpenID Connect Front-Channel Logout 1.0, 2 and 3",
    status: 400,
  },
  "oauth1.credentials-refused": {
    title: "The provider gave no credentials",
    expected: "status 200 and a token with its secret",
    here: "Compare clientId, clientSecret (or key), signatureMethod and the callback address with the registration.",
    atProvider: "Check that the app is active.",
    section: "RFC 5849, 2.1 and 2.3",
    status: 502,
    causes: {
      clock: {
        title: "The provider's clock and this machine's are too far apart",
        here: "Set this machine's clock, if it is the one that is wrong.",
        atProvider: "Set the clock, if it is that one.",
      },
      "not-there": {
        title: "Nothing gives out credentials at this address",
        here: "Correct `temporaryCredentialsEndpoint` or `tokenEndpoint`, whichever was asked.",
      },
      second: {
        title: "The provider took the app's first request, and refuses its second",
        here: "Begin again: what the browser brings back counts once, and not for long. Where it never works, correct `tokenEndpoint`.",
      },
    },
  },
  "oauth1.answer-refused": {
    title: "The provider's answer has no credentials in it",
    expected: "oauth_token and oauth_token_secret, once each, form-encoded",
    here: "Check that the endpoint is the right one of the three.",
    section: "RFC 5849, 2.1 and 2.3",
    status: 502,
  },
  "oauth1.callback-unconfirmed": {
    title: "The provider does not confirm the callback",
    expected: "oauth_callback_confirmed=true",
    atProvider:
      "It speaks the first edition of the protocol, where sign-ins could be planted on others: ask for 1.0a.",
    section: "RFC 5849, 2.1",
    status: 502,
  },
  "oauth1.verifier-missing": {
    title: "The way back brings no verifier",
    expected: "oauth_token and oauth_verifier",
    here: "If the provider says in this way that the person declined, name the parameter in `declinedParameter`.",
    atProvider: "Ask for OAuth 1.0a.",
    section: "RFC 5849, 2.2",
    status: 502,
  },
  "oauth1.request-unsignable": {
    title: "This request cannot be signed",
    expected: "no parameters that begin with oauth_, and form bodies as text or URLSearchParams",
    here: "Take such parameters out; hand the form over as URLSearchParams.",
    section: "RFC 5849, 3.1 and 3.4.1.3",
    status: 500,
  },
  "session.keys-refused": {
    title: "The sealing keys cannot be used",
    expected: "one or more keys of 32 bytes in base64url, separated by commas, the current one first",
    here: "Make one with: node -e \"console.log(crypto.randomBytes(32).toString('base64url'))\"",
    section: "RFC 7518, 5.3",
    status: 500,
    causes: {
      quotes: {
        title: "A sealing key has its quotes",
        here: "Take the quotes off: what reads the variable or the file leaves them in.",
      },
      separated: {
        title: "Sealing keys stand beside each other without a comma",
        here: "Put a comma between them, the current one first.",
      },
      hex: {
        title: "A sealing key is in hexadecimal digits",
        here: "Write the same bytes in base64url: node -e \"console.log(Buffer.from('<key>', 'hex').toString('base64url'))\"",
      },
      base64: {
        title: "A sealing key is in base64 of the other alphabet",
        here: "Write - for each +, _ for each /, and leave out the = at its end.",
      },
      guessable: {
        title: "A sealing key can be guessed",
        expected: "32 bytes at random",
      },
    },
  },
  "session.seal-broken": {
    title: "A sealed value does not open",
    expected: "a value sealed by this app for this record",
    here: "The record was altered, or copied from another. Let the person sign in again.",
    section: "RFC 7516, 5.2",
    status: 403,
  },
  "session.seal-key-unknown": {
    title: "A value was sealed with a key that is no longer there",
    expected: "a key in the key ring with the value's key ID",
    here: "Put the retired key back behind the current one; otherwise the person signs in again.",
    section: "RFC 7516, 5.2",
    status: 403,
  },
  "session.claims-too-large": {
    title: "The claims to keep with the session are too large",
    expected: "claims that `sessionClaims` names of at most 2048 characters, as JSON",
    here: "Name fewer claims in `sessionClaims`, or smaller ones.",
    atProvider: "Let the provider send this app the roles and groups that concern it only.",
    status: 502,
  },
  "session.person-changed": {
    title: "The page was drawn for somebody else",
    expected: "a call for the person who is signed in now",
    here: "Nothing to change: nothing was done in the other person's name. The page looks again who is signed in, and draws itself for them.",
    status: 409,
  },
  "session.not-signed-in": {
    title: "Nobody is signed in",
    expected: "a request of somebody who is signed in",
    here: "Let the person sign in, and come back to where they were.",
    section: "RFC 9110, 15.5.2",
    status: 401,
    causes: {
      "own-sign-in": {
        here: "Let the person sign in. Where they are, see what `personOf` reads: the routes come after what knows who is signed in, and what a framework's own middleware has found is in its second argument.",
      },
    },
  },
  "session.cookie-unknown": {
    title: "A session cookie fits no session of this app: whoever sent it is signed in nowhere",
    expected: "the cookie of a session that is kept",
    here: "Which it is cannot be told: the session was ended elsewhere, the store was emptied, or another app at this host has the same `cookiePrefix` (browsers send cookies to all ports: give each app its own).",
    section: "RFC 6265, 8.5",
    status: 401,
    causes: {
      restarted: {
        title: "A session cookie fits no session: this process has begun with an empty store",
        here: "Sign in again. A store that lasts, such as openSqliteStore, keeps sessions over a restart.",
      },
    },
  },
  "session.other-origin": {
    title: "A page of another site asked for what only this app's own pages may",
    expected: "a request from a page of this app",
    here: "Nothing, where it was somebody else's page: it was refused. Where it was a page of yours, serve it under `origin`.",
    section: "RFC 6749, 10.12",
    status: 403,
    causes: {
      "other-address": {
        title: "The app is open at another address than `origin` says",
        here: "Open it at `origin`, or set `origin` to the address that people use; it is part of what is registered at the provider.",
      },
      neighbour: {
        title: "A page of another port or subdomain asked for what only this app's own pages may",
        here: "Have the page's own server pass the sign-in routes on to the app (the proxy of a development server does), and set `origin` to the address at which people see the page.",
      },
      "by-hand": {
        title: "An address was opened that only this app's own pages may ask",
        here: "Nothing, where somebody typed it or followed a link to it. Have a form of a page post to it, or a script call it.",
      },
      untold: {
        title: "A request does not say which page it comes from",
        here: "See that no proxy takes Origin and the Sec-Fetch headers off what a browser sends. What is no browser has no page: the library's functions do the same for it.",
      },
      "no-script": {
        title: "What only scripts may call was asked for by a link or a form",
        here: "Call it by fetch(…) in a script of the page; a form or a link shows the answer to the person instead of the page.",
      },
    },
  },
  "session.person-refused": {
    title: "The app does not admit this person",
    expected: "somebody whom `welcome` lets in",
    here: "Change what `welcome` answers, if it should have been them.",
    status: 403,
  },
  "session.person-unusable": {
    title: "The app has named a person that this cannot be",
    expected: "at a first visit an ID of 1 to 255 characters; after that the one the identity has, or none",
    here: "Change what `welcome` answers: `personId` counts at a first visit only (`visit.personId` is absent then).",
    status: 500,
    causes: {
      "no-id": {
        title: "The app has named a person by what is no ID",
        expected: "an ID of 1 to 255 characters, as a text, with no control character",
        here: "Change what `welcome` answers as `personId`: a text, which a number becomes by String(id).",
      },
      "own-sign-in": {
        title: "The app's own sign-in has named a person that this cannot be",
        expected:
          "an ID of 1 to 255 characters, as a text, with no control character; undefined where nobody is signed in",
        here: "Change what `personOf` answers: the person's ID, and nothing else of them; undefined for nobody.",
      },
      number: {
        title: "The app's own sign-in has named a person by a number",
        expected: "an ID as a text",
        here: "Answer String(id) in `personOf`.",
      },
      argument: {
        title: "A person is asked for by what is no ID",
        expected: "the person's ID, a text of 1 to 255 characters",
        here: "See where it comes from: where nobody is signed in there is no person whose ID could be handed over.",
      },
      whole: {
        title: "A person is asked for by all that is known of them",
        expected: "the person's ID, a text of 1 to 255 characters",
        here: "Hand over `session.person.id`, and nothing else.",
      },
    },
  },
  "session.id-unusable": {
    title: "A session is to be ended by what is no ID",
    expected: "the session's ID, a text",
    here: "See where it comes from: `id` of a session that session.sessions() lists, or of the store.",
    status: 500,
  },
  "session.identity-taken": {
    title: "This account belongs to another person here",
    expected: "an account that nobody here signs in with yet",
    here: "Sign in with it and remove it there first; people are never joined by themselves.",
    status: 409,
  },
  "session.last-identity": {
    title: "The last way to sign in cannot be taken away",
    expected: "one of the person's identities, and another one left at a provider of the settings",
    here: "Link another account first.",
    status: 409,
    causes: {
      "not-theirs": {
        title: "The person has no such way to sign in",
        expected: "`issuer` and `subject` of one of the person's own identities",
        here: "Make the form's fields `issuer` and `subject` of what `session.identities()` lists.",
      },
    },
  },
  "session.link-broken": {
    title: "The session that asked for another way to sign in is over",
    expected: "the same session in the same browser as at the beginning",
    here: "Sign in and begin again.",
    section: "RFC 9700, 4.7",
    status: 409,
  },
  "connection.api-unknown": {
    title: "No API of this name",
    expected: "the name of an API in the settings",
    here: "Add the API to `apis`, or correct the name.",
    status: 500,
    causes: {
      address: {
        title: "An address stands where the API's name belongs",
        here: "Name the API first, then the path: fetch(name, path); where the person comes first, before both: fetchFor(person, name, path).",
      },
    },
  },
  "connection.other-origin": {
    title: "The call would send the token to an origin it was not meant for",
    expected: "a path, or a URL at the API's declared origin",
    here: "Call with a path; declare another origin as an API of its own.",
    section: "RFC 6750, 5.3",
    status: 500,
    causes: {
      "no-path": {
        title: "A call of an API has no path",
        expected: "a path, as a text",
        here: "Give the path after the API's name: fetch(name, path).",
      },
      "not-text": {
        title: "A call's path is no text",
        expected: "a path, as a text",
        here: "Give its text; a URL object's is its `href`.",
      },
    },
  },
  "connection.body-unusable": {
    title: "A call's body is an object that nobody has made text of",
    expected: "a text, bytes, a form or a stream",
    here: "Send JSON.stringify(body), with the header `content-type: application/json`.",
    section: "WHATWG Fetch, 5.2",
    status: 500,
    causes: {
      "without-method": {
        title: "A call has a body, and a method that takes none",
        expected: "no body with GET and HEAD",
        here: "Say the method, such as POST; without one a call is a GET.",
      },
      "read-already": {
        title: "A call's body is a stream that somebody has read from",
        expected: "a stream that nobody has read from",
        here: "Hand over each stream once, and before anything else reads it.",
      },
    },
  },
  "connection.call-unusable": {
    title: "A call's method or headers cannot be sent",
    expected: "a method and headers as HTTP has them: no line break, nothing beyond Latin-1",
    here: "Correct what was received; text of another kind goes into the body, or percent-encoded.",
    section: "RFC 9110, 5.5 and 9.1",
    status: 500,
    causes: {
      options: {
        title: "What a call is made with is nothing that `fetch` takes",
        expected: "an object as `fetch` takes it: { method, headers, body, signal, … }",
        here: "Correct what was received.",
      },
      habit: {
        title: "A call says something in a member that `fetch` has not",
        expected: "what it says in the members of `fetch`",
        here: "Put a query into the path, what is sent into `body` as text (JSON.stringify(…), new URLSearchParams(…)), and how long it may take into `signal` (AbortSignal.timeout(…)).",
      },
      authorization: {
        title: "A call brings an Authorization of its own, and the token takes its place",
        expected: "no such header: the call gets the person's or the app's token",
        here: "Leave the header out; what takes another one is called by the platform's own fetch.",
      },
      account: {
        title: "It cannot be told which account a call is for",
        expected: "{ account: the provider's ID of it }",
        here: "Name the account in a member that is called `account`: with anything else a call would go by the only account there is.",
      },
    },
  },
  "connection.no-client-scope": {
    title: "The app itself may do nothing at this API",
    expected: "`clientScope` of the API in the settings",
    here: "Set `clientScope` to what the app itself may do there, and allow it for this client at the provider.",
    section: "RFC 6749, 4.4",
    status: 500,
  },
  "connection.none": {
    title: "The person has no connection to this API's provider",
    expected:
      "a sign-in with the provider that the API's settings name, or an account there that is connected",
    here: "Let the person sign in with that provider, or connect an account, first: signIn.ask(request, problem.ask).",
    status: 403,
    causes: {
      "own-sign-in": {
        expected: "an account there that the person has connected",
        here: "Let the person connect one first: `connectable` has the address that a form posts to.",
      },
      account: {
        title: "The person has not connected this account",
        expected: "one of the accounts that are connected, by the provider's ID of it",
        here: "Name one of those, as `account` of the list of accounts has it, or let the person connect the other one.",
      },
      absent: {
        title: "Nothing is held for a person of this ID",
        expected: "somebody who has signed in with that provider, and has not signed out since",
        here: "See where the ID comes from. For calls when nobody is there, let people connect accounts, which outlive their sessions.",
      },
      "not-theirs": {
        title: "The person has no connection of this ID",
        expected: "`id` of an entry in the person's own list of accounts",
        here: "Take the ID from the list as it is now: the form field is called `connection`.",
      },
      "not-launched": {
        title: "The session was not opened by the host whose API is called",
        expected: "a session that the host opened",
        here: "Call it in sessions that this host opened: each tenant of it has an address of its own.",
      },
      page: {
        title: "Nobody is signed in in this page",
        expected: "somebody who is signed in with that provider",
        here: "Let them sign in first: signIn() of the same object.",
      },
    },
  },
  "connection.account-unclear": {
    title: "Several of the person's accounts could be meant",
    expected: "the one connected account, or its ID with the call",
    here: "Name the account: session.fetch(api, path, { account: … }); `session.accounts()` lists them.",
    status: 409,
  },
  "connection.other-environment": {
    title: "The account was connected in another environment",
    expected: "an account that was connected in the environment which the app runs in now",
    here: "Let the person connect it in this environment as well, or start the app with the other one: TENONSAW_ENV.",
    status: 403,
  },
  "connection.not-connectable": {
    title: "Accounts of this provider are not connected here",
    expected: "a provider that `connections` of the settings names",
    here: "Add the provider to `connections`, or let people sign in with it.",
    status: 404,
  },
  "connection.person-changed": {
    title: "Whoever began to connect an account is not who came back",
    expected: "the same person signed in here from the beginning to the end",
    here: "Nothing to change, unless people change in the middle: let them begin again.",
    status: 403,
    causes: {
      "own-sign-in": {
        title: "Nobody is signed in any more who began to connect an account",
        here: "Nothing, where they have signed out meanwhile: let them sign in and begin again. Where it is always so, see that `personOf` knows a request at the callback: a cookie with a `Path` of its own is not sent there.",
      },
    },
  },
  "connection.other-account": {
    title: "The person agreed for another account than the one they were asked about",
    expected: "the account that the question was about",
    here: "Nothing to change. Let the person choose that account at the provider, or connect the other one from the list of accounts.",
    status: 409,
    causes: {
      connected: {
        title: "The person agreed for another account of theirs than the one they were asked about",
        here: "Nothing to change: both accounts stay as they were. Let the person choose the right account at the provider.",
      },
    },
  },
  "connection.account-mismatch": {
    title: "The callback names another account than the provider does",
    expected: "one ID, in the callback and in the answer of `confirmedBy`",
    here: "If it happens to everybody: `account.id` points to something else than what the callback's parameter is. If to one: somebody changed the address on its way, and nothing was kept.",
    status: 403,
  },
  "connection.account-unreadable": {
    title: "Which account was connected could not be found out",
    expected: "a JSON object with the account's ID at `account.id`",
    here: "Compare `connections.<provider>.account` with what the API answers: `tenonsaw try <provider> --call` shows it. Nothing was kept.",
    section: "RFC 6901",
    status: 502,
    causes: {
      "token-refused": {
        expected: "an answer to `confirmedBy` with the person's new access token",
        here: "Ask for the scope that `confirmedBy` needs, in `scope` of the provider. Nothing was kept.",
        atProvider: "Allow the client that scope.",
      },
      "not-there": {
        expected: "a JSON object at the path of `confirmedBy`",
        here: "Correct `confirmedBy.path`, or the API's `origin`. Nothing was kept.",
      },
      failed: {
        expected: "status 200 for `confirmedBy`",
        here: "Let the person try again; where it stays so, see what the API says. Nothing was kept.",
        atProvider: "Check that the API is up.",
      },
      "not-json": {
        expected: "a JSON object at the path of `confirmedBy`",
        here: "Correct `confirmedBy.path`: a list, or a page for people, is at it. Nothing was kept.",
      },
      "no-parameter": {
        title: "The callback does not say which account was connected",
        expected: "the parameter that `account.parameter` names, in the callback",
        here: "Compare `account.parameter` with what the provider documents, and see that it stands in `deviations.keepCallbackParameters` as well. Nothing was kept.",
        atProvider: "See that the client is of a kind for which the account is named in the callback.",
      },
      name: {
        title: "What the connected account is called could not be found out",
        expected: "a text at `account.name`",
        here: "Correct `account.name`: people see the account's ID meanwhile.",
      },
    },
  },
  "connection.account-taken": {
    title: "Somebody else of this app has connected this account",
    expected: "an account that nobody else has connected, as `connections.<provider>.shared: false` says",
    here: "Let the other person disconnect it, or allow it: `shared: true`.",
    status: 409,
  },
  "connection.api-failed": {
    title: "An API did not do what it was asked",
    expected: "an answer, and not 401, 403, 429 or 5xx",
    here: "The call's own answer, or the error that it threw, went to your code: see what it makes of it.",
    atProvider: "See what the API's operator says of this status.",
    section: "RFC 9110, 15.5 and 15.6; RFC 6750, 3",
    status: 502,
    causes: {
      "no-answer": {
        title: "An API did not answer",
        here: "Compare `origin` of the API, scheme and port too, with where it listens, and see whether it is up.",
        atProvider: "Check that the API is up.",
      },
      late: {
        title: "An API did not begin its answer in time",
        here: "Where it takes that long, have it answer at once and be asked for the result later. A call of your server's code waits as long as the `signal` that it is given lets it.",
        atProvider: "See what keeps the API from answering.",
      },
      "token-refused": {
        title: "An API refuses the access token, a renewed one as well where there is one",
        here: "Compare what the token is for with what the API takes: `tenonsaw call <api> <path> --store <place>` shows both, and `tenonsaw explain` reads the challenge.",
        atProvider: "Issue tokens for this API: its audience, its scopes, signed or opaque as it takes them.",
      },
      forbidden: {
        title: "An API does not allow a call",
        here: "The answer went to your code. Where the challenge names a scope, ask for it; otherwise it is the person that may not, or the app.",
        atProvider: "Give the person the role, or the app the right, that the API looks at.",
      },
      redirect: {
        title: "An API sends a call on to where its token does not go",
        here: "The answer went to your code. Call the address that it leads to, as an API of its own where that is another origin (`apis`); a sign-in page there means that the API takes no tokens at this path.",
      },
      "redirect-of-stream": {
        title: "An API answered a streamed body with a redirect",
        here: 'A stream is sent once, and nothing of it is kept to be sent again. Call the address that the redirect leads to, send a body that is no stream, or take the redirect yourself: `redirect: "manual"`, with which `fetch` keeps in memory what it sends, or the platform\'s `fetch: createPipedFetch()`, which does not.',
      },
      busy: {
        title: "An API was asked too often",
        here: "Wait as long as `retry-after` says, and ask less often.",
      },
      "out-of-order": {
        title: "An API is out of order",
        here: "The answer went to your code: say so to the person, and try again later.",
        atProvider: "See what the API's operator says.",
      },
    },
  },
  "connection.scope-insufficient": {
    title: "The access token does not allow this call",
    expected: "an access token with the scope that the API asks for",
    here: "Ask the person for it where it is needed: signIn.ask(request, problem.ask), in a page session.ask(problem).",
    section: "RFC 6750, 3.1 (insufficient_scope)",
    status: 403,
    causes: {
      "granted-less": {
        title: "The person was asked for more scope, and the provider granted less",
        here: "Asking again will not help. Tell the person what is missing, and who can allow it.",
        atProvider:
          "Allow this client the scope, and the person what it stands for; where an administrator has to agree, have them do it.",
      },
      launch: {
        title: "The host has not granted this launch what the page needs",
        here: "What a launch may do is settled when the host opens the app: ask for it in `scope` of the host's settings.",
        atProvider: "Allow this app the scope at the host.",
      },
    },
  },
  "connection.token-bound": {
    title: "The access token is good with its key only",
    expected: "a bearer token, which whoever holds it may use",
    here: "Call with session.fetch, which proves each time that it holds the key.",
    section: "RFC 9449, 7.1",
    status: 500,
  },
  "connection.busy": {
    title: "The access token has expired, and cannot be renewed at this moment",
    expected: "a provider and a store that answer",
    here: "Try again after the time that is said.",
    status: 503,
  },
  "connection.ended": {
    title: "The connection has ended",
    expected: "a provider that still honours the refresh token",
    here: "Let the person sign in, or connect the account, again: signIn.ask(request, problem.ask).",
    atProvider: "Check whether consent was withdrawn or the refresh token used twice.",
    section: "RFC 6749, 5.2 (invalid_grant)",
    status: 403,
    causes: {
      "not-renewable": {
        title: "The access token is over, and nothing renews it",
        expected: "a refresh token, or an access token that is good yet",
        here: "Let the person sign in, or connect the account, again; where a host has opened the app, open it from there. To spare them that, ask for the scope that yields a refresh token (often `offline_access`).",
        atProvider: "Allow the client refresh tokens.",
      },
    },
  },
  "guard.token-missing": {
    title: "The call brings no access token",
    expected:
      "an access token in the header `Authorization: Bearer …`, or `Authorization: DPoP …` with a proof",
    here: "Where the caller is an app of yours: call by `session.fetch`, the relay or the like, which send the token. Where it sent one, see whether a proxy takes the header Authorization out.",
    section: "RFC 6750, 2.1 and 3",
    status: 401,
    causes: {
      scheme: {
        title: "The call brings credentials of another kind",
        here: "Send an access token as `Authorization: Bearer …`; this API takes no credentials of another kind.",
      },
      "no-space": {
        title: "The scheme and the access token are not apart",
        here: "Put one space between the two: `Authorization: Bearer …`.",
      },
      cookie: {
        title: "The call brings a cookie in place of an access token",
        here: "A session cookie says nothing to an API. Where a page calls, let its server add the token: the relay, or `session.fetch`.",
      },
    },
  },
  "guard.credentials-malformed": {
    title: "The Authorization header cannot be read",
    expected: "one header, with one scheme, one space and one token of letters, digits and -._~+/=",
    here: "Where the caller is yours: send the header once, without quotes, commas or line ends in the token.",
    section: "RFC 6750, 2.1 and 3.1",
    status: 400,
    causes: {
      several: {
        title: "The call brings several access tokens",
        here: "Send one. Where a proxy adds a header of its own, let it replace the one that is there.",
      },
      quotes: {
        title: "The access token is in quotes",
        here: "Send the token without the quotes around it.",
      },
      "scheme-alone": {
        title: "The Authorization header has a scheme and no token",
        here: "The caller's token was empty: see why it had none, a variable that is not set, or a sign-in that brought none.",
      },
      "scheme-twice": {
        title: "The scheme stands twice before the access token",
        here: "Leave one `Bearer ` out: what makes the header puts it before the token, and it was there already.",
      },
      encoded: {
        title: "The access token is percent-encoded",
        here: "Send it as it was issued: what stands in an address is encoded, what stands in a header is not.",
      },
      object: {
        title: "The header has an object in place of the access token",
        here: "Put the token itself into the header, such as the member `access_token` of a token answer.",
      },
    },
  },
  "guard.token-misplaced": {
    title: "The access token is where it must not be",
    expected: "the access token in the Authorization header, and in no other place",
    here: "Send it in the header. Addresses stay in histories and logs: whoever sees one has the token, so have this token revoked.",
    section: "RFC 6750, 2; RFC 9700, 4.3.2",
    status: 400,
    causes: {
      form: {
        title: "The access token is in a form",
        here: "Send it in the header; `formToken` of the guard takes it from a form, where a caller cannot set headers.",
      },
    },
  },
  "guard.token-unreadable": {
    title: "The access token cannot be read",
    expected: "a signed token of three parts, of base64url and JSON",
    here: "Send the whole token, unchanged. Where it was copied by hand, copy it again: a token that was cut looks like this.",
    section: "RFC 9068, 4; RFC 7519, 7.2",
    status: 401,
    causes: {
      opaque: {
        title: "The access token is opaque, and this API takes signed ones",
        expected: "a signed token of three parts, or `introspection` of an issuer in the guard's settings",
        here: "Set `introspection` and `client` of the issuer, so that the issuer is asked what the token is worth; or send a token that was issued for this API, which is signed.",
        atProvider: "Have signed access tokens issued for this API (its audience), where that can be set.",
      },
      encrypted: {
        title: "The access token is encrypted, and this API has no key for it",
        here: "Have tokens for this API issued signed and not encrypted.",
        atProvider: "Switch off the encryption of access tokens for this API.",
      },
      word: {
        title: "The header has a word in place of the access token",
        here: "The caller had no token, and sent what a variable without a value becomes in a text: see why it had none.",
      },
      "too-large": {
        title: "The access token is far too large",
        expected: "a token of at most 64 KiB",
        here: "Look at what the caller sends: no access token is that large.",
      },
    },
  },
  "guard.algorithm-refused": {
    title: "The access token is signed by an algorithm that is not taken",
    expected: "one of the algorithms that the guard takes",
    here: "Where the issuer signs so on purpose, name the algorithm in `algorithms` of the issuer. `none` and MACs are never taken.",
    atProvider: "Sign access tokens with a key pair: ES256, EdDSA, PS256 or RS256.",
    section: "RFC 9068, 4; RFC 8725, 3.1",
    status: 401,
  },
  "guard.key-unknown": {
    title: "The access token is signed with a key that the issuer does not publish",
    expected: "a key ID of the issuer's key set",
    here: "See that caller and API speak of the same environment: the same issuer's name may stand for several. Right after keys were rotated, a token of a key that is published late is taken as soon as the set has it.",
    atProvider:
      "Publish a key before signing with it, and keep it until the last token it signed has expired.",
    section: "RFC 9068, 4; OpenID Connect Core 1.0, 10.1.1",
    status: 401,
    causes: {
      given: {
        ...keyCauses.given,
        title: "The access token is signed with another key than those in the guard's settings",
      },
      "none-published": {
        ...keyCauses["none-published"],
        title: "The access token's issuer publishes no keys",
      },
      unreadable: {
        ...keyCauses.unreadable,
        title: "The access token's issuer publishes a key that cannot be read",
      },
      "keys-nameless": {
        ...keyCauses["keys-nameless"],
        title: "The access token names its key, and the issuer's have no names",
      },
      "token-nameless": {
        ...keyCauses["token-nameless"],
        title: "The access token does not name its key, and several of the issuer's fit",
      },
      "other-algorithm": {
        ...keyCauses["other-algorithm"],
        title: "The issuer's key is for another algorithm or use than the access token's",
      },
      twice: {
        ...keyCauses.twice,
        title: "Two keys of the issuer have the name that the access token gives",
      },
    },
  },
  "guard.signature-mismatch": {
    title: "The signature of the access token does not hold",
    expected: "a signature by the issuer's key, over this header and this payload",
    here: "The token was changed on its way, or made by somebody else: send it as it was issued.",
    section: "RFC 9068, 4; RFC 7515, 5.2",
    status: 401,
    causes: {
      cut: {
        title: "The access token was cut at its end",
        here: "Send the whole token: a column, a header limit or a copied selection was too short for it.",
      },
    },
  },
  "guard.issuer-unknown": {
    title: "The access token is of an issuer that this API does not trust",
    expected: "an issuer in the guard's settings, character for character",
    here: "Where this issuer is to be trusted, add it to the guard's settings.",
    section: "RFC 9068, 4; RFC 8725, 3.8",
    status: 401,
    causes: {
      slash: {
        title: "The access token names its issuer with another end",
        here: "Copy `issuer` from the issuer's metadata into the guard's settings: the slash at its end counts.",
      },
      letters: {
        title: "The access token writes its issuer with other capitals",
        here: "Copy `issuer` from the issuer's metadata into the guard's settings: capitals count.",
      },
      path: {
        title: "The access token is of another issuer at the same place",
        here: "Several issuers live there (tenants, policies, versions). Copy `iss` of a token into `issuer`, if that is the one you mean; declare `tenants`, or another spelling as one of `formats`.",
      },
      environment: {
        title: "The access token is from another environment",
        here: "Let the caller ask the issuer of this environment, or call the API of its own.",
      },
      tenant: {
        title: "The access token is of a tenant that is not admitted",
        here: "Add the tenant to `tenants.admitted`, if it may call this API.",
      },
      absent: {
        title: "The access token does not say who issued it",
        atProvider: "Issue access tokens with `iss`.",
      },
    },
  },
  "guard.audience-mismatch": {
    title: "The access token is for another API",
    expected: "this API among the audiences of the token",
    here: "Let the caller ask for a token for this API (`resource` or `audience`); or correct `audience` of the guard, if this API is called so.",
    atProvider: "Check by which name this API is registered.",
    section: "RFC 9068, 4; RFC 8707, 2",
    status: 401,
    causes: {
      "other-api": {
        title: "The access token is for another API, which is known here",
        here: "Let the caller use a token of its own for each API: `resource` or `audience` in `apis`.",
      },
      slash: {
        title: "The access token names this API with another end",
        here: "Write `audience` as the token has it: the slash at its end counts.",
      },
      absent: {
        title: "The access token does not say which API it is for",
        here: "Let the caller ask for a token for this API: `resource` or `audience`. Where the issuer's introspection never says, `introspection.withoutAudience` takes that.",
        atProvider: "Say in access tokens which API they are for (`aud`).",
      },
    },
  },
  "guard.kind-refused": {
    title: "The token is no access token",
    expected: "a token of type at+jwt",
    here: "Send the access token. Where the issuer's access tokens have no type of their own, `untyped` of the issuer says so.",
    section: "RFC 9068, 4; RFC 8725, 3.11 and 3.12",
    status: 401,
    causes: {
      "id-token": {
        title: "The token is an ID token: it says who signed in, and opens nothing",
        here: "Send the access token in its place: what `session.fetch` sends, or the member `access_token` of the token answer.",
      },
      "logout-token": { title: "The token is a logout token: a notice that a session has ended" },
      "other-type": {
        title: "The issuer says that the token is not an access token",
        expected: "token_type Bearer, or DPoP with `cnf.jkt`, or none",
        here: "Send the access token, not the refresh token.",
        atProvider:
          "Bind the token to a key where its type is DPoP: the introspection answer then has `cnf.jkt`.",
      },
      proof: {
        title: "The token is a DPoP proof: it belongs into the header DPoP",
        here: "Send the access token as `Authorization: DPoP …`, and the proof in the header DPoP.",
      },
      untyped: {
        title: "The token does not say that it is an access token",
        here: "Where this issuer's access tokens have no type of their own, set `untyped` of the issuer.",
        atProvider: "Issue access tokens by the JWT profile (typ at+jwt), where that can be set.",
      },
    },
  },
  "guard.format-refused": {
    title: "The access token has another format than this API takes",
    expected: "a format that the guard's settings declare and take",
    here: "Declare the format under `formats` of the issuer, if this API can do with it.",
    atProvider: "Choose the format of access tokens for this API.",
    section: "RFC 9068, 4",
    status: 401,
  },
  "guard.claim-missing": {
    title: "The access token lacks a claim",
    expected: "the claims of an access token: iss, aud, exp, sub, client_id, iat and jti",
    here: "Where the issuer's tokens are of another make, `untyped` of the issuer takes those with iss, aud and exp.",
    atProvider: "Issue access tokens by the JWT profile.",
    section: "RFC 9068, 2.2",
    status: 401,
    causes: {
      kind: {
        title: "A claim of the access token is of another kind than it has to be",
        atProvider: "Send the claims that are named as the standard has them.",
      },
    },
  },
  "guard.expired": {
    title: "The access token has expired",
    expected: "an access token whose `exp` is to come",
    here: "Let the caller renew it and call again; `session.fetch` does so by itself.",
    section: "RFC 9068, 4; RFC 7519, 4.1.4",
    status: 401,
    causes: {
      lifetime: {
        title: "The access token was over when it was made",
        atProvider: "Give access tokens a lifetime: `exp` comes after `iat`.",
      },
      clock: {
        title: "The access token has expired, by a clock that differs from the issuer's",
        here: "Set this machine's clock: keep it by NTP.",
      },
    },
  },
  "guard.not-yet-valid": {
    title: "The access token is not valid yet",
    expected: "an access token whose `iat` and `nbf` are past, give or take 60 s",
    here: "Compare this machine's clock with the issuer's.",
    section: "RFC 7519, 4.1.5 and 4.1.6",
    status: 401,
    causes: {
      clock: {
        title: "The access token is not valid yet, by a clock that differs from the issuer's",
        here: "Set this machine's clock: keep it by NTP.",
      },
    },
  },
  "guard.token-inactive": {
    title: "The issuer says that the access token is worth nothing",
    expected: "an introspection answer with `active: true`",
    here: "Let the caller renew the token, or ask the person again: it has expired, was revoked, or is not for this API.",
    section: "RFC 7662, 2.2",
    status: 401,
  },
  "guard.introspection-refused": {
    title: "The issuer does not let this API ask about tokens",
    expected: "an introspection answer with status 200",
    here: "Check `client` of the issuer: its ID, its secret and how it proves itself.",
    atProvider: "Allow this API's client to use introspection.",
    section: "RFC 7662, 2.1 and 2.3",
    status: 503,
    causes: {
      ...clientCauses,
      encoding: {
        title: clientCauses.encoding.title,
        here: "If ID and secret are right, the issuer takes them unencoded: set `client.clientAuthentication` to client_secret_post.",
        atProvider: clientCauses.encoding.atProvider,
      },
      assertion: {
        title: clientCauses.assertion.title,
        here: "Register the public part of the key that signs (tenonsaw keys --public), and check the clock.",
        atProvider: clientCauses.assertion.atProvider,
      },
      "not-there": {
        title: "What answers at its address is no introspection endpoint",
        here: "Correct `introspection.endpoint`, where it was set by hand.",
        atProvider: "Name the address that is in use in the metadata.",
      },
    },
  },
  "guard.introspection-unreadable": {
    title: "The issuer's answer about a token cannot be used",
    expected:
      "a JSON object with a boolean `active`; a signed answer for this API where `introspection.signed` is set",
    here: "Check the address of `introspection`.",
    section: "RFC 7662, 2.2; RFC 9701, 5",
    status: 503,
  },
  "guard.issuer-unusable": {
    title: "An issuer cannot be asked, so its tokens cannot be judged",
    expected: "metadata and keys of the issuer",
    here: "See what the cause says; calls are refused until the issuer can be asked, and it is asked again by itself.",
    atProvider: "Check that the service is up.",
    status: 503,
    causes: {
      busy: {
        title: "An issuer asks to be left alone for a while",
        here: "Take signed access tokens, which need no question to the issuer, or raise `introspection.keepSeconds`.",
      },
    },
  },
  "guard.origin-unknown": {
    title: "The guard does not know its own address, which the call was signed for",
    expected: "`origin` in the guard's settings",
    here: "Set `origin` of the guard to the origin that callers use, such as https://tides.example. A request cannot tell it: whoever repeats it elsewhere sends another Host.",
    section: "RFC 9449, 4.3; RFC 5849, 3.4.1.2",
    status: 500,
  },
  "guard.too-busy": {
    title: "Too many tokens are being asked about at once",
    expected: "at most 100 questions to an issuer at one time",
    here: "Signed access tokens need no question to the issuer. See whether somebody sends made-up tokens.",
    status: 503,
  },
  "guard.proof-missing": {
    title: "The access token is bound to a key, and no proof of it came",
    expected: "`Authorization: DPoP …`, and one proof in the header DPoP",
    here: "Let the caller sign a proof for each call: whoever has the token alone cannot use it. `session.fetch` does so where `dpopBoundAccessTokens` is set.",
    section: "RFC 9449, 7.1 and 7.2",
    status: 401,
    causes: {
      bearer: {
        title: "A token that is bound to a key was sent as if anybody could use it",
        here: "Send it as `Authorization: DPoP …` with a proof; see whether something between the two has changed or dropped headers.",
      },
    },
  },
  "guard.proof-refused": {
    title: "The proof of possession does not hold",
    expected: "a proof as RFC 9449 describes it, made for this very call",
    here: "Let the caller sign a new proof for each call.",
    section: "RFC 9449, 4.3",
    status: 401,
    causes: {
      several: { title: "Several proofs of possession came" },
      form: { title: "The proof of possession cannot be read, or lacks a claim" },
      kind: { title: "The token in the header DPoP is no proof of possession" },
      algorithm: { title: "The proof of possession is signed by an algorithm that is not taken" },
      key: { title: "The proof of possession brings no public key that can be used" },
      signature: { title: "The signature of the proof of possession does not hold" },
      method: { title: "The proof of possession is for another method" },
      address: {
        title: "The proof of possession is for another address",
        here: "Where this API is behind a proxy, set `origin` of the guard to the address that callers see.",
      },
      time: {
        title: "The proof of possession is too old, or from the future",
        here: "Compare the caller's clock with this machine's.",
      },
      token: { title: "The proof of possession is for another access token" },
    },
  },
  "guard.proof-replayed": {
    title: "The proof of possession was used before",
    expected: "a new proof, with a `jti` of its own, for each call",
    here: "Let the caller sign anew before it repeats a call. Where it does, somebody has copied a call.",
    section: "RFC 9449, 11.1",
    status: 401,
  },
  "guard.proof-nonce-needed": {
    title: "The proof of possession lacks this API's nonce, or has an old one",
    expected: "the nonce of the header DPoP-Nonce of the last answer",
    here: "Let the caller repeat the call with the nonce of this answer; callers that follow the standard do.",
    section: "RFC 9449, 9",
    status: 401,
  },
  "guard.binding-mismatch": {
    title: "The proof or certificate is not the one that the access token is bound to",
    expected: "the key or certificate whose thumbprint is in `cnf` of the token",
    here: "The token is used by somebody it was not issued to; or the caller has made a new key and kept the old token.",
    section: "RFC 9449, 4.3 and 6; RFC 8705, 3",
    status: 401,
    causes: {
      "not-bound": {
        title: "The access token is bound to no key, and was sent with a proof",
        here: "Send it as `Authorization: Bearer …`, or have a bound one issued: the caller proves its key at the token endpoint.",
      },
      unknown: {
        title: "The access token is bound in a way that is not known here",
        expected: "`jkt` or `x5t#S256` in `cnf`",
        here: "Let the caller bind its tokens to a key for proofs (DPoP) or to its certificate, or leave them unbound.",
      },
      "needed-here": {
        title: "The access token is bound to nothing, and this call takes bound ones",
        here: "Have the caller ask for bound tokens (DPoP, or mutual TLS).",
      },
    },
  },
  "guard.certificate-missing": {
    title: "The access token is bound to a certificate, and none came",
    expected: "a TLS connection with the client's certificate",
    here: "Let the server ask callers for their certificate (`requestCert`), without refusing unknown authorities; behind a proxy, hand it on by `certificateOf`.",
    section: "RFC 8705, 3",
    status: 401,
  },
  "guard.scope-missing": {
    title: "The access token does not allow this",
    expected: "a token with the scope that the call takes",
    here: "Let the caller ask for the scope: `needs` beside its route, or `scope` of the provider; and have the person consent.",
    atProvider: "Allow the scope for the caller's client.",
    section: "RFC 6750, 3.1",
    status: 403,
    causes: {
      "nothing-there": {
        title: "The access token has no scopes at the place where they are looked for",
        here: "Where one of its claims has them, point `scope` of the issuer at it. Where none does, let the caller ask for the scope.",
        atProvider: "Allow the scope for the caller's client.",
      },
    },
  },
  "guard.role-missing": {
    title: "The caller lacks a role or permission",
    expected: "a role or permission that the call takes",
    here: "Check `roles` and `permissions` of the issuer: where in the token they stand.",
    atProvider: "Give the person the role, and put roles into access tokens.",
    section: "RFC 6750, 3.1",
    status: 403,
    causes: {
      "nothing-there": {
        title: "The access token has no roles or permissions at the place where they are looked for",
        here: "Point `roles` or `permissions` of the issuer at the claim that has them.",
        atProvider: "Put roles into access tokens.",
      },
    },
  },
  "guard.claim-refused": {
    title: "A claim of the access token is not what the call takes",
    expected: "the value that the route names",
    here: "Compare `claims` of the route with what the issuer puts there: value, type and place.",
    section: "RFC 6750, 3.1",
    status: 403,
  },
  "guard.caller-refused": {
    title: "This call is not for this kind of caller",
    expected: "a call for a person, or by a client for itself, as the route says",
    here: "Let the caller use a token of the right kind: of a person's sign-in, or of its own (client credentials).",
    section: "RFC 9068, 5",
    status: 403,
  },
  "guard.actor-refused": {
    title: "Somebody acts for the caller who may not",
    expected: "no actor, or one that the route names",
    here: "Name the actor in `actor` of the route, if it may act here.",
    section: "RFC 8693, 4.1",
    status: 403,
  },
  "guard.authentication-insufficient": {
    title: "The person has not proved well or recently enough who they are",
    expected: "the authentication that the route takes",
    here: "Let the app sign the person in again, with what the challenge says: `acr_values`, `max_age`.",
    section: "RFC 9470, 3",
    status: 401,
    causes: {
      age: { title: "It is too long ago that the person proved who they are" },
      class: { title: "The person has proved who they are in a weaker way than this takes" },
      absent: {
        title: "The access token does not say when and how the person proved who they are",
        atProvider: "Put `auth_time` and `acr` into access tokens.",
        here: "Let the app sign the person in again, with what the challenge says; it helps once access tokens say how that was.",
      },
    },
  },
  "guard.request-unsigned": {
    title: "The signed request cannot be read",
    expected: "each parameter of the protocol once, and all of them in one place",
    here: "Let the caller send oauth_consumer_key, oauth_signature_method, oauth_timestamp, oauth_nonce and oauth_signature, in the header, the query or the form.",
    section: "RFC 5849, 3.1 and 3.5",
    status: 400,
  },
  "guard.request-method-refused": {
    title: "The signed request uses a method or version that is not taken",
    expected: "a signature method that `signedRequests.methods` lists, and version 1.0",
    here: "Add it to `signedRequests.methods`, if it is meant. PLAINTEXT is for TLS only.",
    section: "RFC 5849, 3.2 and 3.4",
    status: 400,
    causes: {
      "no-secret": {
        here: "Let `signedRequests.credentialsOf` answer with it; or have the client sign with what it has: RSA-SHA1 takes a key alone.",
      },
    },
  },
  "guard.request-time": {
    title: "The signed request is too old, or from the future",
    expected: "a timestamp near this machine's clock",
    here: "Compare the caller's clock with this machine's.",
    section: "RFC 5849, 3.3",
    status: 401,
  },
  "guard.request-replayed": {
    title: "The signed request was received before",
    expected: "a new nonce with each request",
    here: "Let the caller sign anew before it repeats a request.",
    section: "RFC 5849, 3.3",
    status: 401,
  },
  "guard.request-unknown": {
    title: "The client or the token of a signed request is not known",
    expected: "credentials that `signedRequests.credentialsOf` finds",
    here: "Check which client and token the caller uses, and that they are of this environment.",
    section: "RFC 5849, 3.2",
    status: 401,
  },
  "guard.request-mismatch": {
    title: "The signature of a request does not hold",
    expected: "the signature that this side computes over the same request",
    here: "Compare the address as the caller sees it with `origin` of the guard, and both secrets; a proxy that changes path or query breaks the signature.",
    section: "RFC 5849, 3.2",
    status: 401,
  },
  "guard.replays-full": {
    title: "There is no room to note that a proof was used",
    expected: "fewer than 200,000 calls with proofs within two minutes",
    here: "Give the guard a `store` (SQLite, Redis, PostgreSQL): its memory is for small APIs.",
    status: 503,
    causes: {
      "one-caller": {
        title: "One caller sends more calls with proofs than this guard can note",
        expected: "fewer than 20,000 calls with proofs by one key within two minutes",
        here: "Give the guard a `store` (SQLite, Redis, PostgreSQL) where a single caller may call that often. All others are let in as before.",
      },
    },
  },
  "guard.exchange-unknown": {
    title: "A token is to be exchanged for an API that the settings do not name",
    expected: "an API of `downstream` in the guard's settings",
    here: "Name the API under `downstream`, or correct its name: exchange(caller, name).",
    status: 500,
    causes: {
      caller: {
        title: "A token is to be exchanged for somebody whom this guard has not admitted with one",
        expected: "the caller, as `admit` of the same guard has given it for an access token",
        here: "Hand over the caller itself, and no copy or part of it; put `await` before `admit`. Signed requests of OAuth 1.0a have no token to exchange.",
      },
      client: {
        title: "A token is to be exchanged, and this API has no name at the issuer",
        expected: "`client` of the issuer in the guard's settings",
        here: "Register this API as a client of the issuer, and give its ID and secret as `client`.",
        atProvider: "Allow that client the grant type of token exchange (RFC 8693).",
      },
    },
  },
  "launch.host-unknown": {
    title: "A host that nobody has declared wants to open this app",
    expected: "an `iss` that is the issuer of one of the hosts in the settings, character for character",
    here: 'Where this host may open the app, copy its base URL to `issuer` of a provider with `discovery: "smart"`. Nothing was sent there.',
    atProvider: "Check the launch URL that is registered there, and which base URL the host sends as `iss`.",
    section: "SMART App Launch 2.2, Launch App: EHR Launch; OpenID Connect Core 1.0, 4",
    status: 400,
    causes: {
      absent: {
        title: "A launch without the host's address",
        expected: "the parameters iss and launch",
        here: "Open this app from the host: its launch URL is no address for people.",
      },
      slash: {
        title: "A host's address differs by the slash at its end",
        here: "Copy the base URL to `issuer` as the host sends it, with the slash or without.",
      },
      letters: {
        title: "A host's address differs in the case of its letters",
        here: "Copy the base URL to `issuer` as the host sends it.",
      },
      scheme: {
        title: "A host's address differs in http and https",
        here: "Take the https address to `issuer`.",
        atProvider: "Have the host send its https address.",
      },
      tenant: {
        title: "A launch by a tenant that is not admitted",
        expected: "a tenant that `launch.tenants.admitted` names",
        here: "Add the tenant to `launch.tenants.admitted`, if it may open this app.",
      },
      "tenant-unnamed": {
        title: "It is not said which tenant of a host is meant",
        expected: "a launch from a tenant, or an address that names one",
        here: "Lead people to `<basePath>/launch?iss=` and the base URL of their tenant.",
      },
    },
  },
  "launch.parameters-refused": {
    title: "A launch cannot be read",
    expected: "iss and launch once each, and nothing else of them",
    here: "Open this app from the host once more.",
    atProvider:
      "Check the launch URL that is registered there: it ends in /launch and has no parameters of its own.",
    section: "SMART App Launch 2.2, Launch App: EHR Launch",
    status: 400,
  },
  "launch.value-used": {
    title: "This launch was used already",
    expected: "a launch value that nobody has come with before",
    here: "Open this app from the host once more: each opening has a value of its own. A reload or a bookmark has the old one.",
    section: "SMART App Launch 2.2, Launch App: EHR Launch",
    status: 409,
  },
  "launch.capability-missing": {
    title: "The host does not say that it can do what this app needs",
    expected: "the capabilities that the app needs, in the host's configuration",
    here: "Leave out the scopes that need it; or where the host can do it and does not say so, name in `launch.needs` what is to be checked.",
    atProvider: "Have the host switch it on, and list it under `capabilities`.",
    section: "SMART App Launch 2.2, Conformance: Capabilities",
    status: 502,
  },
  "launch.context-refused": {
    title: "The host's context of a launch has members that are not what they have to be",
    expected: "members of the type that SMART App Launch or `launch.context` gives them",
    here: "Where a member of the host's own is of another type, correct it in `launch.context`.",
    atProvider: "Show the host's operators what came: the findings name each member.",
    section: "SMART App Launch 2.2, Scopes and Launch Context",
    status: 502,
  },
  "launch.context-missing": {
    title: "The host has granted access to a patient's data and does not say whose",
    expected: "the members of the context that the granted scopes need",
    here: "Open the app from a patient's record; or ask for `launch/patient`, so that one is chosen.",
    atProvider: "Check that the app is registered as one that needs a patient.",
    section: "SMART App Launch 2.2, Scopes and Launch Context",
    status: 502,
  },
  "launch.token-unconfirmed": {
    title: "The host does not confirm the access token that it has given",
    expected: "an introspection answer with active true, for this host and this patient",
    atProvider: "Show the host's operators what came: its two endpoints do not agree.",
    section: "SMART App Launch 2.2, Token Introspection; RFC 7662, 2.2",
    status: 502,
    causes: {
      inactive: { title: "The host says that the access token it has given is not good" },
      audience: { title: "The access token is for another server than the host that has opened this app" },
      patient: { title: "The access token is about another patient than the token answer named" },
    },
  },
  "launch.style-refused": {
    title: "The host's style cannot be used",
    expected: "colours, sizes and names of fonts, as JSON",
    atProvider: "Show the host's operators what came. The app looks like itself meanwhile.",
    section: "SMART App Launch 2.2, Styling",
    status: 502,
    causes: {
      elsewhere: {
        title: "The host's style is at an origin that nobody has declared",
        here: "Where styles may come from there, add the origin to `launch.styleOrigins`. Nothing was sent there.",
      },
    },
  },
  "launch.ended": {
    title: "This launch is over",
    expected: "a launch whose session has not ended, in the browser or frame that it was opened in",
    here: "Open the app from the host once more.",
    section: "SMART App Launch 2.2, Launch App: EHR Launch",
    status: 401,
  },
  "launch.frame-without-storage": {
    title: "In this frame the browser keeps nothing for this app",
    expected: "a cookie of this app's, or storage of the frame's own",
    here: "Open the app in a window of its own, or allow it to keep data in the frame.",
    status: 400,
  },
  "page.secret-refused": {
    title: "A secret stands in a page",
    expected: "a client without a secret: clientAuthentication none, neither clientSecret nor clientKeys",
    here: "Take it out, and do as the provider says about a secret that was published: everybody who opened the page has it. An app that needs one keeps it on a server: createSignIn.",
    atProvider:
      "Register the app as a public client (token_endpoint_auth_method none), and replace the secret.",
    section: "RFC 6749, 2.1; RFC 8252, 8.5",
    status: 500,
  },
  "page.client-credentials-refused": {
    title: "A page is to call an API as itself, without a person",
    expected: "calls for the person who is signed in",
    here: "Take `clientScope` out: client credentials take a secret, which a page cannot keep. What the app does by itself its server does: signIn.fetch.",
    section: "RFC 6749, 4.4",
    status: 500,
  },
  "page.cors-refused": {
    title: "A server answers, and does not let this page read it",
    expected: "an answer with Access-Control-Allow-Origin for this page's origin",
    here: "Where the API is yours, allow the origin there: `pageOrigins` of openGuard does. What is not yours and cannot be asked to, a provider too, is asked by a server: createSignIn, and its relay.",
    atProvider:
      "Allow this page's origin, the headers authorization and dpop, and the methods that it uses; expose WWW-Authenticate and DPoP-Nonce.",
    section: "Fetch Standard, 3.3",
    status: 502,
  },
  "page.policy-refused": {
    title: "This page's Content-Security-Policy does not let it ask a server",
    expected: "the server's origin in connect-src",
    here: "Add the origin to connect-src of the policy that the worker's script is served with; a worker has that one, and not its page's.",
    section: "Content Security Policy 3, 6.1.2",
    status: 500,
  },
  "page.server-elsewhere": {
    title: "What answers at this page's origin does not know of the sign-in",
    expected: "the answer of createSignIn, at the page's own origin",
    here: "Let the app's server answer under `basePath` here: where the page has a dev server of its own, have it pass that path on to the app's server (a proxy). The page's `basePath` has to be that of the settings.",
    status: 502,
  },
  "page.insecure-origin": {
    title: "A page that is the client is open at an address that is not secure",
    expected: "https, or localhost",
    here: "Serve the page over https; for development open it at localhost: elsewhere a browser has neither Web Crypto nor locks.",
    section: "Secure Contexts, 3.1; RFC 9700, 2.6",
    status: 400,
    causes: {
      "no-page": {
        title: "What is for a page that is the client runs where there is no page",
        expected: "a browser",
        here: "Call openPageSignIn in the browser alone: where pages are made on a server as well, in an effect, or behind what the framework has for it.",
      },
    },
  },
  "page.settings-refused": {
    title: "The settings of the worker that keeps a page's tokens cannot be used",
    expected: "{ provider, apis, redirectUri, signedOutUri }, of which `provider` has to be there",
    here: "Change in the worker's script what is named with it.",
    section: "RFC 6454, 6.2",
    status: 500,
  },
  "page.holder-misplaced": {
    title: "holdTokens is called where there is no worker",
    expected: "a script of its own, of which the page makes a worker",
    here: 'Put the call into a file of its own, and hand the page `() => new Worker(new URL("./tokens.js", import.meta.url), { type: "module" })`: tokens are kept where no script of the page is.',
    status: 500,
  },
  "page.launch-unnamed": {
    title: "A host has opened this page, and the page's session names no launch",
    expected: "createPageSession({ launch: launchHere() }), while the address has `launched` in it",
    here: "Hand over the launch, before a router changes the address: without it nobody is signed in in this page.",
    status: 500,
  },
  "page.session-unclear": {
    title: "What was handed over as the page's session is none",
    expected: "what createPageSession() gives, or openPageSignIn() in the end",
    here: "Hand over the session itself: put `await` before openPageSignIn, and call createPageSession.",
    status: 500,
    causes: {
      "no-scope": {
        title: "There is no PageSessionScope above this component",
        expected: "a component below PageSessionScope",
        here: "Put what uses the session below <PageSessionScope session={session}>.",
      },
      remade: {
        title: "A page's session is made anew whenever something is drawn",
        expected: "one session for as long as the page is open",
        here: "Make it once, in a module, outside of components: each of them asks the server by itself.",
      },
      options: {
        title: "A page's session is made with what there is not",
        expected: "basePath, first and launch",
        here: 'Call it so: createPageSession(), or createPageSession({ basePath: "/club/sign-in" }).',
      },
      other: {
        title: "The elements of a page are about another session already",
        expected: "one session for all of them",
        here: "Call defineElements once, with the session that the page has.",
      },
    },
  },
  "page.trip-unclear": {
    title: "A page asks for a trip to a provider in a way that it cannot be asked for",
    expected: 'the provider\'s name, or none, and `in: "this window"` or `in: "pop-up"`',
    here: 'Call it so: signIn("quayside", { in: "pop-up" }). As a listener, which is handed an event, put a function around it: () => session.signIn().',
    status: 500,
    causes: {
      name: {
        title: "A page asks for a trip with something that there is not",
        expected: "in, returnTo, scope, maxAge, acrValues and loginHint",
        here: "Correct the name: what is passed over would not be asked for.",
      },
      asking: {
        title: "A page asks for the way out of something that is no problem",
        expected: "a problem, or the error that brings it",
        here: "Hand over what was caught, or the problem of `asking` while there is one; other errors have no way out by asking.",
      },
    },
  },
  "page.part-unclear": {
    title: "A part of the page is written in a way that says nothing",
    expected: "what the part is made for",
    here: "Write it as the guide to pages has it: what is unknown is passed over, and shows nothing.",
    status: 500,
  },
  "page.answer-removed": {
    title: "Something has put another address in place of the one that the provider's answer came with",
    expected: "openPageSignIn before anything that changes the page's address",
    here: "Let the page's router begin once openPageSignIn is done. The answer was taken all the same; where the person was before is not shown again.",
    status: 500,
  },
  "page.frame-silent": {
    title: "A frame in which the provider was asked said nothing",
    expected: "the provider to send the frame back to this origin, with prompt=none",
    here: "Let the page's Content-Security-Policy show the provider and this origin in a frame (frame-src 'self' and the provider), and the page itself be framed by its own origin (frame-ancestors 'self'). Where the provider does not let itself be framed, nothing is to change: it is asked in this window after a reload.",
    atProvider: "See whether it forbids frames (X-Frame-Options, frame-ancestors) also for prompt=none.",
    section: "OpenID Connect Core 1.0, 3.1.2.1",
    status: 502,
  },
  "page.worker-silent": {
    title: "The worker that keeps the tokens does not answer",
    expected: "a worker whose script calls holdTokens",
    here: "Let the worker's script call holdTokens, and nothing before that takes long.",
    status: 500,
    causes: {
      none: {
        title: "There is no worker to keep the tokens",
        expected: "a function that makes one",
        here: 'Hand it over, not called: openPageSignIn({ worker: () => new Worker(new URL("./tokens.js", import.meta.url), { type: "module" }) }).',
      },
      "not-loaded": {
        title: "The worker that keeps the tokens has no script",
        expected: "a script of this origin that calls holdTokens",
        here: "Open the script's address, which the browser's network panel shows: a script has to come, without a mistake in its syntax; a server of single-page apps gives its page for what it does not have. The page's Content-Security-Policy has to allow it (worker-src); the console says where it does not.",
      },
      slow: {
        title: "The worker that keeps the tokens has not said anything yet",
        here: "Nothing, where its script takes so long to come, which the browser's network panel shows: it is waited for. Otherwise let the script call holdTokens, and nothing before that takes long.",
      },
      failed: {
        title: "The script of the worker that keeps the tokens fails",
        here: 'Mend what it fails with. What has `import` in it is a module, and is made as one: `new Worker(url, { type: "module" })`.',
      },
    },
  },
  "page.worker-failed": {
    title: "The worker that keeps the tokens met an error that nothing is made for",
    expected: "an answer, or a problem of the catalogue",
    here: "Look at the error in the browser's console, where it is with its stack: storage that is full or forbidden is one.",
    status: 500,
  },
  "page.storage-unavailable": {
    title:
      "This browser keeps nothing for the page, so nothing could be found again after the way to the provider",
    expected: "IndexedDB",
    here: 'Sign in in a window of its own, which the page outlives: `{ in: "pop-up" }`. Private windows of some browsers have no IndexedDB.',
    status: 500,
  },
  "page.in-foreign-frame": {
    title: "A page is in a frame of another site, where it cannot sign anybody in",
    expected: "a page in a window of its own, or in a frame of its own site",
    here: "Open the page in a window: in a frame of another site a browser keeps cookies and storage from it.",
    status: 403,
  },
  "server.relay-header-unsent": {
    title: "A header of a page's call does not go on to the API",
    expected: "headers that describe the content, or what the page would like to have",
    here: "Put what the API has to know into the path or the body, or make the call in the app's own code (`session.fetch`), where every header goes along.",
    status: 500,
  },
  "server.relay-refused": {
    title: "Pages may not call this through the relay",
    expected: "a method and a path that `relay` of the API allows",
    here: 'Add the path to `apis.<api>.relay` of the settings, with its method unless that is GET: "POST /slots/*".',
    section: "RFC 9110, 15.5.4",
    status: 403,
    causes: {
      "odd-path": {
        here: "No rule fits a path that not every server reads in the same way: with a slash, a dot or a control character that is encoded, a part that is empty or leads up. Say it in the query; or let the app's own code make the call.",
      },
    },
  },
  "server.return-path-refused": {
    title: "The return path leads away from this app",
    expected: "a path of this app, beginning with one slash",
    here: "Give `returnTo` a path such as /tides.",
    section: "RFC 9700, 4.11",
    status: 400,
  },
  "server.method-refused": {
    title: "This address is not for this method",
    expected: "GET for pages, POST to sign out",
    here: "Send the form with the method shown.",
    status: 405,
  },
  "server.origin-unknown": {
    title: "The browser sees this app at another address than the settings say",
    expected: "`origin`, or one of `proxies.otherOrigins`",
    here: "Compare `proxies` with what stands before this app, and `origin` with what people type.",
    section: "RFC 7239, 5.3 and 5.4",
    status: 421,
  },
  "server.route-unknown": {
    title: "There is nothing at this address",
    expected: "one of the sign-in routes",
    here: "Correct the link, or the redirect URI that is registered: docs/routes.md has them all.",
    status: 404,
  },
  "server.request-too-large": {
    title: "The request is too large",
    expected:
      "a Cookie header and a URL of at most 16 KiB each, and what proxies say in at most 4 KiB and 20 elements",
    here: "Make it shorter.",
    section: "RFC 6265, 6.1",
    status: 431,
    causes: {
      cookies: { here: "Set fewer or smaller cookies; this browser's are cleared in its settings." },
      proxies: {
        here: "See what proxies write into this header: each adds to it, and visitors may begin it.",
      },
      address: { here: "Put less into the address: what is long belongs into a form, or into the session." },
    },
  },
  "server.request-unreadable": {
    title: "The request cannot be read",
    expected: "a request with a host and a path, as RFC 9112 has them",
    here: "Check what sends it: a browser never sends such a request.",
    section: "RFC 9112, 3.2",
    status: 400,
  },
  "server.body-too-large": {
    title: "The request's body is too large",
    expected: "a body that is no longer than docs/limits.md says",
    here: "Send less; a form of one's own to sign out, link or unlink has a field or two.",
    section: "RFC 9110, 15.5.14",
    status: 413,
  },
  "server.request-too-slow": {
    title: "A request's body did not come in in time",
    expected: "the whole body within 10 seconds",
    here: "Send it again, in one go.",
    status: 408,
  },
  "server.body-read-before": {
    title: "Something has read a request's body before the sign-in routes could",
    expected: "a request whose body nobody has read",
    here: "Let the sign-in routes come before what parses bodies (`express.json()` and the like), or leave them out of it.",
    status: 500,
  },
  "server.body-broken": {
    title: "A request's body broke off",
    expected: "a body that comes to its end",
    here: "Send it again, whole.",
    status: 400,
  },
  "server.body-no-form": {
    title: "What is to be a form is sent in another form",
    expected: "application/x-www-form-urlencoded, as a browser sends a form",
    here: "From a script send `new URLSearchParams({ … })`, or `new URLSearchParams(new FormData(form))`; leave `enctype` off a form.",
    atProvider: "Send what a form would: OpenID Connect Back-Channel Logout 1.0, 2.5, asks for it.",
    status: 400,
  },
  "server.path-cut": {
    title: "Something before this app takes the beginning off its paths",
    expected: "the whole path, as the browser has it",
    here: "Let the proxy pass the path on as it is (no strip prefix, no rewrite), or serve the app where the proxy sends it and take that part out of `basePath`.",
    status: 500,
  },
  "server.not-a-request": {
    title: "What was handed over is no Request",
    expected: "a Request, as fetch and the web's frameworks have it",
    here: "Use the adapter of the framework (tenonsaw/express, /fastify, /koa, /hono), or make one: toRequest of tenonsaw/node.",
    section: "WHATWG Fetch, 5.4",
    status: 500,
  },
  "server.not-a-response": {
    title: "What a handler has given back is no Response",
    expected: "a Response, as fetch and the web's frameworks have it",
    here: "Make it one: new Response(text), Response.json(value).",
    section: "WHATWG Fetch, 5.5",
    status: 500,
    causes: {
      nothing: {
        here: "Return the Response: a function in braces gives back only what `return` says. An app of Express or Koa is no such handler: it has its own adapter.",
      },
      promise: { here: "Put `await` before it." },
      "as-it-came": {
        title: "A handler answers with another server's answer as it came",
        expected: "an answer of this app's own",
        here: "Pass it on: passOn(answer) of tenonsaw/server leaves out the other server's cookies and rules for browsers, and that it was compressed, which it is no more. To pass more on, make a new Response of its body, without content-encoding and content-length.",
      },
      read: { here: "Hand it on before it is read, or read a copy: answer.clone()." },
    },
  },
  "server.answer-cut": {
    title: "An answer broke off on its way to the browser",
    expected: "a body that comes to its end",
    here: "Look at what broke: the app's own stream, or an API whose answer was passed on.",
    status: 500,
  },
  "server.unfit-argument": {
    title: "A function was handed what it cannot use",
    expected: "what the function is for",
    here: "Hand over what is expected, as the reference in docs/api has it of every function.",
    status: 500,
    causes: {
      promise: { here: "Put `await` before what makes it: it is not there yet." },
      called: {
        title: "What a framework is to call was called in its place",
        here: "Leave the brackets out: it is handed to the framework as it is.",
      },
    },
  },
  "server.routes-unreached": {
    title: "People are sent to sign in, and no request has come to the sign-in routes since the app started",
    expected: "each request below `basePath` to be handed to signIn.handle, as the adapters do",
    here: "Put the adapter into the app before what answers every address: app.use(middleware), or await app.register(plugin); without an adapter, call signIn.handle(request) first. A development server or proxy in front has to send these addresses on. Where another process answers them, nothing is to change.",
    status: 500,
  },
  "server.session-taken": {
    title: "Another library keeps something of its own where the session is to be",
    expected: "nothing there but the session, for whoever is signed in",
    here: 'Give the session a name of its own: `forExpress(signIn, { as: "member" })` puts it at `request.member`, and the adapters for other frameworks likewise. Handlers that ask for `session` would take everybody for signed in.',
    status: 500,
  },
  "server.hook-unusable": {
    title: "A function of the app's own answers what nobody can use",
    expected: "what is said of that function where it is set",
    here: "Change what the function answers; where it is async, it has to be that in the end.",
    status: 500,
    causes: {
      promise: { here: "Answer at once: have what the function needs before it is asked." },
      silent: {
        here: "Look at what it waits for, such as a database that does not answer, and give that a deadline.",
      },
    },
  },
  "server.app-failed": {
    title: "The app threw an error of its own",
    expected: "an answer from the app's own code, or a problem of the catalogue",
    here: "Find the error and its stack on standard error, or where `onProblem` puts them.",
    status: 500,
  },
  "server.too-many-requests": {
    title: "Too many requests",
    expected: "no more requests than `limitRate` admits, or 600 a minute from one peer",
    here: "Wait; or let `limitRate` admit more.",
    section: "RFC 6585, 4",
    status: 429,
  },
  "store.unavailable": {
    title: "The store does not answer",
    expected: "a store that can be read and written",
    here: "Check that the store's file or server is there, speaks TLS where the URL says so and only there, can be written to and is not full.",
    status: 503,
    causes: {
      address: {
        title: "The store's address is not one that it can have",
        expected:
          "a path for SQLite, such as app.db; a URL for Redis, redis://…, and PostgreSQL, postgres://…",
        here: "Give the store the path or URL of its kind, and see that it is set.",
      },
      "not-there": {
        title: "Nothing answers at the store's address",
        here: "Start the store's server, or correct host and port.",
      },
      "host-unknown": {
        title: "The store's host has no address",
        here: "Correct the host in the store's URL, or the network's names.",
      },
      closed: {
        title: "The store has been closed",
        here: "Close it last: after the server has stopped, and when no request is under way.",
      },
      "no-folder": {
        title: "The folder for the store's file is not there",
        here: "Make the folder, or give another path; it counts from where the app was started.",
      },
      "no-file": {
        title: "The store's file is not there",
        here: "Give the path of the store that the app has; it counts from where this was started.",
      },
      folder: {
        title: "A folder stands at the store's path",
        here: "Name a file in it, such as app.db.",
      },
      "not-a-database": {
        title: "What stands at the store's path is no database",
        here: "Give a path of its own for the store's file; where it was a store, put a backup in its place.",
      },
      "not-allowed": {
        title: "The store does not let this user do what it takes",
        here: "Give the user the right to read and write there, and for tables to be made, or make them as another: tenonsaw migrate.",
      },
      "read-only": {
        title: "The store can be read only",
        here: "Give the address of the server that is written to, not of a replica; or the right to write the file.",
      },
      full: {
        title: "The store has no room, or cannot write to its disk",
        here: "Make room, or allow it more; a Redis that evicts keys signs people out.",
      },
      credentials: {
        title: "The store does not take user and password",
        here: "Correct them; in a URL, characters such as @, :, / and % are written as %40, %3A, %2F and %25.",
      },
      "no-database": {
        title: "There is no database of this name",
        here: "Create it, or correct the name in the URL.",
      },
      "no-tables": {
        title: "A table of the store is not there any more",
        here: "Something has removed it, or a backup was not whole: put a whole one in its place, or give the store an empty database, which it fills when it is opened.",
      },
      "of-another": {
        title: "The database is of another program",
        here: "Give the store a database of its own: its tables would stand in the way of those that are there.",
      },
      crowded: {
        title: "The store's server has no connection left",
        here: "Let it have more (max_connections), or put a pooler before it: each process of the app takes up to ten.",
      },
      tls: {
        title: "The store and this app do not agree about TLS",
        here: "Compare the URL (rediss://, sslmode) with what the server speaks, and let Node know its authority (NODE_EXTRA_CA_CERTS).",
      },
    },
  },
  "store.in-browser": {
    title: "Sessions are kept in their browsers, and cannot be reached from here",
    expected: "the request of the browser that the session is in, at the routes of sign-in",
    here: "Use a store on a server, such as SQLite, for what has to work without the browser.",
    status: 501,
  },
  "store.cookies-full": {
    title: "The session does not fit into cookies",
    expected: "a session of at most 7,800 characters, sealed",
    here: "Ask for fewer scopes or claims, or use a store on a server, such as SQLite.",
    section: "RFC 6265, 6.1",
    status: 500,
  },
  "store.newer-schema": {
    title: "The store was made by a newer version",
    expected: "a store of this version or an older one, or a newer one that this version can use beside it",
    here: "Update the library, or use another store.",
    status: 500,
  },
  "cli.unrecognised": {
    title: "This is nothing that can be explained",
    expected:
      "a token, a callback or authorization URL, an answer, keys or metadata in JSON, a challenge, a problem, or two addresses",
    here: "Paste the whole of it, in quotes.",
    status: 400,
  },
  "cli.usage": {
    title: "The command was called in a way that it does not know",
    expected: "a command, its arguments and its options as --help shows them",
    here: "See tenonsaw --help, and tenonsaw <command> --help.",
    status: 400,
  },
  "cli.connection-unnamed": {
    title: "Which connection is meant is not clear",
    expected:
      "the beginning of one connection's ID, or an option that chooses: --person, --provider, --account, --state",
    here: "See `tenonsaw connections list`, and name more of the ID.",
    status: 500,
  },
  "cli.sample-missing": {
    title: "Nothing says what to call to see whether a connection works",
    expected: "`sample` of an API of this provider in the settings",
    here: "Set `apis.<api>.sample` to a path that reads a little and changes nothing, such as /tides/today.",
    status: 500,
  },
  "cli.session-unnamed": {
    title: "It is not said which session is meant",
    expected: "the beginning of one session's ID, or --person, --provider or --older-than",
    here: "See which there are: tenonsaw sessions list.",
    status: 400,
  },
  "cli.file-unreadable": {
    title: "A file cannot be read",
    expected: "a file that is there and readable",
    here: "See what the system says of it.",
    status: 400,
    causes: {
      missing: {
        title: "A file is not there",
        here: "Check the path; it counts from where this was started.",
      },
      "not-allowed": { here: "Give the user who runs this the right to read it." },
      folder: { here: "Name the file in the folder." },
    },
  },
  "cli.file-unwritable": {
    title: "A file cannot be written",
    expected: "a path that can be written, and where no key would be lost",
    here: "See what the system says of it.",
    status: 400,
    causes: {
      there: {
        title: "A file is there already, and is not written over",
        here: "Name another file, or move this one away.",
      },
      missing: { here: "Make the folder that it is to be in, or check the path." },
      "not-allowed": { here: "Give the user who runs this the right to write there, or name another place." },
      folder: { here: "Name a file in the folder." },
    },
  },
} as const satisfies Record<`${string}.${string}`, CatalogueEntry>;

/** The same, where the texts are carried: everywhere but on a page. */
export const texts: Readonly<Record<ProblemCode, CatalogueEntry>> | undefined = catalogue;

/** The code of a catalogued problem, such as `grant.code-refused`. */
export type ProblemCode = keyof typeof catalogue;

/** The causes of a problem that has several. */
export type CauseOf<Code extends ProblemCode> = (typeof catalogue)[Code] extends {
  readonly causes: infer Causes;
}
  ? keyof Causes & string
  : never;

/** The station a problem comes from: the part of its code before the dot. */
export type Station = ProblemCode extends `${infer Name}.${string}` ? Name : never;

/**
 * How long what comes from outside may be, in characters where it is text: one table, stated in docs/limits.md. What is
 * longer is refused by name, or left out where that is said.
 */
export const limits = {
  /** A URL that the sign-in routes answer. */
  url: 16_384,
  /** A Cookie header; a longer one is not read. */
  cookieHeader: 16_384,
  /** An Accept-Language header; a longer one is not read. */
  acceptLanguage: 500,
  /** A form that signs out, links or unlinks, in bytes. */
  ownForm: 4096,
  /** A header that the relay passes on. */
  relayedHeader: 4096,
  /** A body that the relay passes on, in bytes. */
  relayedBody: 268_435_456,
  /** A provider's notice of sign-out, in bytes. */
  notice: 32_768,
  /** An answer that a provider has the browser post, in bytes. */
  postedAnswer: 262_144,
  /** How long a body may take to come in, in seconds. */
  bodySeconds: 10,
  /** How long a function of the settings may take to answer, in seconds. */
  hookSeconds: 30,
  /** A header in which proxies say where a request came from. */
  forwardedHeader: 4096,
  /** Proxies in such a header. */
  forwardedElements: 20,
  /** What is kept of a sign-in that has begun: the whole record, in bytes. */
  attempt: 1100,
  /** The path a person returns to. */
  returnPath: 400,
  /** Host and port at which a sign-in began; what is longer is cut. */
  host: 100,
  /** The parameter `acrValues`. */
  acrValues: 100,
  /** The parameter `scope` of an address. */
  extraScope: 200,
  /** The parameter `loginHint`, which goes on to the provider. */
  loginHint: 320,
  /** The parameter `uiLocales`, which goes on to the provider. */
  uiLocales: 100,
  /** A name in a profile; what is longer, or has control characters in it, is left out. */
  profileName: 200,
  /** An e-mail address in a profile; likewise. */
  profileEmail: 320,
  /** The address of a picture in a profile; likewise. */
  profilePicture: 2048,
  /** A language in a profile; likewise. */
  profileLocale: 35,
  /** A role in a profile; likewise. */
  profileRole: 200,
  /** Roles in a profile; further ones are left out. */
  profileRoles: 200,
  /** The claims that `sessionClaims` names, as JSON: a sign-in that brings more is refused. */
  sessionClaims: 2048,
  /** A subject, of any protocol. */
  subject: 255,
  /** `sid` of an ID token or notice; `jti` of a notice. */
  tokenId: 255,
  /** `acr` of an ID token. */
  authenticationClass: 255,
  /** An ID of the app's own for a person. */
  personId: 255,
  /** What a browser says that it is; what is longer is cut. */
  device: 200,
  /** A callback parameter that deviations.keepCallbackParameters names. */
  keptParameter: 1024,
  /** The scope that a token answer names. */
  scope: 4096,
  /** A token or secret that a provider gives. */
  token: 65_536,
  /** A form in which a guard looks for an access token or a signed request, in bytes. */
  callForm: 262_144,
  /** A proof of possession that comes with a call (DPoP). */
  proof: 8192,
  /** The Authorization header of a signed request (OAuth 1.0a). */
  signedHeader: 16_384,
  /** A protocol parameter of a signed request, its signature excepted. */
  signedParameter: 512,
  /** Parameters of a signed request, all places together. */
  signedParameters: 1000,
  /** The secret of temporary credentials (OAuth 1.0a), which is kept with the attempt. */
  temporarySecret: 200,
  /** The value that a host opens this app with (SMART App Launch). */
  launchValue: 2048,
  /** What a host says of the context of a launch, as JSON. */
  launchContext: 8192,
  /** A host's style document. */
  launchStyle: 16_384,
} as const;

/** A fault that the practice provider plays on request. */
export interface Rehearsal {
  readonly name: string;
  /** What goes wrong. */
  readonly about: string;
  /** What a sound app makes of it: the problem, or `signed in` or `declined`. */
  readonly ending: string;
  /**
   * What a sign-in has to ask for, for the fault to show: the response type `code id_token`, a class of authentication,
   * a recent one, or an answer in a JWT; tokens that are bound to a key or encrypted; a request that is sent ahead; or it
   * shows at Old Wharf Archive, which speaks OAuth 1.0a, or when Boathouse Clinic opens an app.
   */
  readonly asks?:
    "hybrid" | "class" | "recent" | "signed" | "bound" | "encrypted" | "pushed" | "oauth1" | "launch";
}

export const rehearsals = [
  // ID token
  { name: "issuer-wrong", about: "The ID token is of another issuer.", ending: "identity.issuer-mismatch" },
  {
    name: "issuer-with-slash",
    about: "The ID token's issuer has a slash at its end.",
    ending: "identity.issuer-mismatch",
  },
  { name: "issuer-missing-in-token", about: "The ID token has no issuer.", ending: "identity.claim-missing" },
  {
    name: "subject-missing",
    about: "The ID token says nothing about whom it is.",
    ending: "identity.claim-missing",
  },
  { name: "subject-empty", about: "The ID token's subject is empty.", ending: "identity.claim-missing" },
  { name: "subject-number", about: "The ID token's subject is a number.", ending: "identity.claim-missing" },
  {
    name: "audience-wrong",
    about: "The ID token is for another client.",
    ending: "identity.audience-mismatch",
  },
  { name: "audience-missing", about: "The ID token is for nobody.", ending: "identity.claim-missing" },
  {
    name: "audience-of-many",
    about: "The ID token is for two, and the app has not been told to trust the other one.",
    ending: "identity.audience-untrusted",
  },
  {
    name: "authorized-party-wrong",
    about: "The ID token was asked for by another client.",
    ending: "identity.authorized-party-mismatch",
  },
  { name: "id-token-expired", about: "The ID token expired an hour ago.", ending: "identity.expired" },
  {
    name: "id-token-from-the-future",
    about: "The ID token was issued an hour from now.",
    ending: "identity.not-yet-valid",
  },
  {
    name: "not-before-in-the-future",
    about: "The ID token is not valid for another hour.",
    ending: "identity.not-yet-valid",
  },
  { name: "expiry-missing", about: "The ID token never expires.", ending: "identity.claim-missing" },
  { name: "expiry-as-text", about: "The ID token's expiry is text.", ending: "identity.claim-missing" },
  {
    name: "issue-time-missing",
    about: "The ID token does not say when it was issued.",
    ending: "identity.claim-missing",
  },
  {
    name: "nonce-wrong",
    about: "The ID token carries another sign-in's nonce.",
    ending: "identity.nonce-mismatch",
  },
  { name: "nonce-missing", about: "The ID token carries no nonce.", ending: "identity.nonce-missing" },
  { name: "nonce-number", about: "The ID token's nonce is a number.", ending: "identity.claim-missing" },
  {
    name: "access-token-hash-wrong",
    about: "The ID token was issued with another access token.",
    ending: "identity.access-token-hash-mismatch",
  },
  {
    name: "access-token-hash-missing",
    about: "The ID token names no access token, as the code flow allows.",
    ending: "signed in",
  },
  {
    name: "code-hash-wrong",
    about: "The ID token was issued with another code.",
    ending: "identity.code-hash-mismatch",
    asks: "hybrid",
  },
  {
    name: "code-hash-missing",
    about: "The ID token that came through the browser names no code.",
    ending: "identity.code-hash-mismatch",
    asks: "hybrid",
  },
  {
    name: "state-hash-wrong",
    about: "The ID token was issued with another state.",
    ending: "identity.state-hash-mismatch",
    asks: "hybrid",
  },
  {
    name: "authentication-time-missing",
    about: "The ID token does not say when the person proved who they are, though that was asked.",
    ending: "identity.authentication-too-old",
    asks: "recent",
  },
  {
    name: "authentication-too-long-ago",
    about: "The person proved who they are a day ago, though that was asked to be recent.",
    ending: "identity.authentication-too-old",
    asks: "recent",
  },
  {
    name: "authentication-class-wrong",
    about: "The person proved who they are in another way than was asked.",
    ending: "identity.authentication-class-mismatch",
    asks: "class",
  },
  {
    name: "authentication-class-missing",
    about: "The ID token does not say how the person proved who they are, though that was asked.",
    ending: "identity.authentication-class-mismatch",
    asks: "class",
  },
  {
    name: "signature-of-a-stranger",
    about: "The ID token is signed with another key under the name of the right one.",
    ending: "jose.signature-mismatch",
  },
  {
    name: "signature-altered",
    about: "The ID token's signature was altered.",
    ending: "jose.signature-mismatch",
  },
  {
    name: "signature-missing",
    about: "The ID token's signature was cut off.",
    ending: "jose.signature-mismatch",
  },
  {
    name: "claims-altered",
    about: "The ID token was altered to be about somebody else.",
    ending: "jose.signature-mismatch",
  },
  {
    name: "key-unknown",
    about: "The ID token is signed with a key that is not published.",
    ending: "jose.key-unknown",
  },
  {
    name: "key-rotated",
    about: "The ID token is signed with a key published this moment: the key set is fetched again.",
    ending: "signed in",
  },
  {
    name: "algorithm-none",
    about: "The ID token says that it needs no signature.",
    ending: "jose.algorithm-refused",
  },
  {
    name: "algorithm-hmac",
    about: "The ID token has a MAC with the published key for a secret.",
    ending: "jose.algorithm-refused",
  },
  {
    name: "critical-extension",
    about: "The ID token demands an extension that nobody knows.",
    ending: "jose.critical-unknown",
  },
  {
    name: "payload-unencoded",
    about: "The ID token says that its payload is not encoded.",
    ending: "jose.critical-unknown",
  },
  { name: "token-of-four-parts", about: "The ID token has a part too many.", ending: "jose.not-compact" },
  { name: "token-of-nonsense", about: "The ID token is no token.", ending: "jose.not-compact" },
  {
    name: "token-with-padding",
    about: "The ID token is padded, which base64url is not.",
    ending: "jose.not-base64url",
  },
  {
    name: "token-with-claim-twice",
    about: "The ID token names two subjects.",
    ending: "jose.duplicate-member",
  },
  // token endpoint
  {
    name: "token-endpoint-slow",
    about: "The token endpoint answers after 15 seconds.",
    ending: "platform.too-slow",
  },
  {
    name: "token-endpoint-500",
    about: "The token endpoint answers with status 500.",
    ending: "grant.unavailable",
  },
  {
    name: "token-endpoint-busy",
    about: "The token endpoint answers with status 429.",
    ending: "grant.unavailable",
  },
  {
    name: "token-endpoint-page",
    about: "The token endpoint answers with a web page.",
    ending: "platform.not-json",
  },
  {
    name: "token-endpoint-empty",
    about: "The token endpoint answers with nothing.",
    ending: "platform.not-json",
  },
  {
    name: "token-endpoint-redirects",
    about: "The token endpoint sends elsewhere.",
    ending: "platform.redirected",
  },
  {
    name: "token-endpoint-endless",
    about: "The token endpoint answers with three megabytes.",
    ending: "platform.answer-too-large",
  },
  {
    name: "token-answer-member-twice",
    about: "The token answer has two access tokens.",
    ending: "jose.duplicate-member",
  },
  { name: "token-answer-list", about: "The token answer is a list.", ending: "platform.not-json" },
  {
    name: "access-token-missing",
    about: "The token answer has no access token.",
    ending: "grant.answer-refused",
  },
  {
    name: "access-token-empty",
    about: "The token answer's access token is empty.",
    ending: "grant.answer-refused",
  },
  {
    name: "token-type-missing",
    about: "The token answer does not say of which type its token is.",
    ending: "grant.answer-refused",
  },
  {
    name: "token-type-unknown",
    about: "The token answer's token is of a type that nobody knows.",
    ending: "grant.token-type-refused",
  },
  {
    name: "lifetime-negative",
    about: "The access token lives less than nothing.",
    ending: "grant.answer-refused",
  },
  {
    name: "lifetime-in-words",
    about: "The access token's lifetime is in words.",
    ending: "grant.answer-refused",
  },
  {
    name: "lifetime-as-text",
    about: "The access token's lifetime is a number in text, which harms nobody.",
    ending: "signed in",
  },
  {
    name: "lifetime-missing",
    about: "The token answer does not tell the access token's lifetime.",
    ending: "signed in",
  },
  {
    name: "id-token-missing",
    about: "The token answer has no ID token.",
    ending: "identity.id-token-missing",
  },
  { name: "scope-narrowed", about: "The access token allows less than was asked.", ending: "signed in" },
  { name: "code-refused", about: "The token endpoint refuses the code.", ending: "grant.code-refused" },
  {
    name: "client-refused",
    about: "The token endpoint does not accept client ID and secret.",
    ending: "grant.client-refused",
  },
  { name: "grant-not-allowed", about: "The client may not redeem codes.", ending: "grant.provider-error" },
  {
    name: "error-inside-200",
    about: "The token endpoint reports an error with status 200.",
    ending: "grant.answer-refused",
  },
  {
    name: "error-without-body",
    about: "The token endpoint answers with status 400 and nothing else.",
    ending: "grant.provider-error",
  },
  {
    name: "error-nobody-knows",
    about: "The token endpoint answers with an error that no standard knows.",
    ending: "grant.provider-error",
  },
  // userinfo
  {
    name: "userinfo-of-somebody-else",
    about: "The userinfo answer is about somebody else.",
    ending: "identity.userinfo-subject-mismatch",
  },
  {
    name: "userinfo-without-subject",
    about: "The userinfo answer does not say about whom it is.",
    ending: "identity.userinfo-subject-mismatch",
  },
  {
    name: "userinfo-refused",
    about: "The userinfo endpoint does not accept the access token.",
    ending: "identity.userinfo-refused",
  },
  {
    name: "userinfo-500",
    about: "The userinfo endpoint answers with status 500.",
    ending: "provider.unavailable",
  },
  {
    name: "userinfo-page",
    about: "The userinfo endpoint answers with a web page.",
    ending: "identity.userinfo-refused",
  },
  {
    name: "userinfo-unasked-jwt",
    about: "The userinfo answer is signed, which was not agreed.",
    ending: "identity.userinfo-refused",
  },
  // the way back
  { name: "state-missing", about: "The answer has no state.", ending: "response.state-missing" },
  {
    name: "state-altered",
    about: "The answer has the state of another sign-in.",
    ending: "response.state-altered",
  },
  { name: "state-twice", about: "The answer has two states.", ending: "response.parameter-duplicated" },
  {
    name: "issuer-missing",
    about: "The answer does not say who gives it, though that is promised.",
    ending: "response.issuer-missing",
  },
  {
    name: "issuer-of-another",
    about: "The answer is another provider's.",
    ending: "response.issuer-mismatch",
  },
  { name: "code-missing", about: "The answer has no code.", ending: "response.code-missing" },
  { name: "code-altered", about: "The answer has a code that nobody issued.", ending: "grant.code-refused" },
  { name: "code-twice", about: "The answer has two codes.", ending: "response.parameter-duplicated" },
  {
    name: "token-unasked",
    about: "The answer has an access token that nobody asked for.",
    ending: "response.token-unasked",
  },
  { name: "answer-empty", about: "The answer is empty.", ending: "response.empty" },
  { name: "answer-declined", about: "The person says no.", ending: "declined" },
  {
    name: "answer-server-error",
    about: "The provider reports an error of its own.",
    ending: "response.provider-error",
  },
  {
    name: "answer-temporarily-unavailable",
    about: "The provider says that it is overloaded.",
    ending: "response.provider-error",
  },
  {
    name: "answer-invalid-scope",
    about: "The provider does not know a scope.",
    ending: "response.provider-error",
  },
  {
    name: "answer-unauthorized-client",
    about: "The client may not sign people in.",
    ending: "response.provider-error",
  },
  {
    name: "answer-login-required",
    about: "The provider would have to ask the person, and must not.",
    ending: "response.provider-error",
  },
  {
    name: "answer-interaction-required",
    about: "The provider would have to show something, and must not.",
    ending: "response.provider-error",
  },
  {
    name: "answer-error-with-markup",
    about: "The provider's error is a piece of script.",
    ending: "response.provider-error",
  },
  {
    name: "signed-answer-for-another",
    about: "The signed answer is for another client.",
    ending: "response.jwt-refused",
    asks: "signed",
  },
  {
    name: "signed-answer-expired",
    about: "The signed answer is too old.",
    ending: "response.jwt-refused",
    asks: "signed",
  },
  {
    name: "signed-answer-without-end",
    about: "The signed answer is good for ever.",
    ending: "response.jwt-refused",
    asks: "signed",
  },
  // what is published
  {
    name: "metadata-issuer-wrong",
    about: "The metadata names another issuer.",
    ending: "provider.issuer-mismatch",
  },
  {
    name: "metadata-without-token-endpoint",
    about: "The metadata has no token endpoint.",
    ending: "provider.metadata-refused",
  },
  { name: "metadata-page", about: "The metadata is a web page.", ending: "platform.not-json" },
  { name: "metadata-missing", about: "There is no metadata.", ending: "provider.metadata-not-found" },
  {
    name: "metadata-insecure",
    about: "The metadata names a token endpoint without https.",
    ending: "provider.metadata-refused",
  },
  {
    name: "metadata-without-algorithms",
    about: "The metadata lists no signature algorithm but none.",
    ending: "provider.metadata-refused",
  },
  { name: "key-set-empty", about: "The key set is empty.", ending: "jose.key-unknown" },
  { name: "key-set-page", about: "The key set is a web page.", ending: "jose.key-set-refused" },
  { name: "key-set-500", about: "The key set is not available.", ending: "jose.key-set-unavailable" },
  {
    name: "key-set-for-encryption",
    about: "The key set has only keys to encrypt with.",
    ending: "jose.key-unknown",
  },
  {
    name: "key-set-with-strangers",
    about: "The key set has entries of unknown types beside the good one.",
    ending: "signed in",
  },
  // Bound and encrypted tokens, requests sent ahead
  {
    name: "token-not-bound",
    about: "The access token is not bound to the key.",
    ending: "grant.token-type-refused",
    asks: "bound",
  },
  {
    name: "proof-nonce-endless",
    about: "Whatever nonce a proof carries, the token endpoint wants another.",
    ending: "grant.provider-error",
    asks: "bound",
  },
  {
    name: "token-in-the-clear",
    about: "The ID token is not encrypted.",
    ending: "jose.not-encrypted",
    asks: "encrypted",
  },
  {
    name: "encryption-altered",
    about: "The encrypted ID token was altered.",
    ending: "jose.decryption-failed",
    asks: "encrypted",
  },
  {
    name: "encryption-for-another-key",
    about: "The ID token is encrypted for a key that the app does not have.",
    ending: "jose.key-unknown",
    asks: "encrypted",
  },
  {
    name: "encryption-of-nonsense",
    about: "There is no token inside the encrypted one.",
    ending: "jose.not-compact",
    asks: "encrypted",
  },
  {
    name: "push-refused",
    about: "The request that is sent ahead is refused.",
    ending: "attempt.request-refused",
    asks: "pushed",
  },
  {
    name: "push-without-reference",
    about: "The answer to it has no reference.",
    ending: "attempt.request-refused",
    asks: "pushed",
  },
  {
    name: "push-answered-with-200",
    about: "It is answered with another status than 201.",
    ending: "attempt.request-refused",
    asks: "pushed",
  },
  {
    name: "push-500",
    about: "The endpoint for it is out of order.",
    ending: "provider.unavailable",
    asks: "pushed",
  },
  // OAuth 1.0a
  {
    name: "temporary-credentials-refused",
    about: "The archive refuses the request for temporary credentials.",
    ending: "oauth1.credentials-refused",
    asks: "oauth1",
  },
  {
    name: "temporary-credentials-unconfirmed",
    about: "The archive does not confirm the callback.",
    ending: "oauth1.callback-unconfirmed",
    asks: "oauth1",
  },
  {
    name: "temporary-credentials-without-secret",
    about: "Temporary credentials come without a secret.",
    ending: "oauth1.answer-refused",
    asks: "oauth1",
  },
  {
    name: "temporary-credentials-twice",
    about: "Two temporary tokens come in one answer.",
    ending: "oauth1.answer-refused",
    asks: "oauth1",
  },
  {
    name: "temporary-credentials-as-json",
    about: "Temporary credentials come as JSON.",
    ending: "oauth1.answer-refused",
    asks: "oauth1",
  },
  {
    name: "wharf-verifier-missing",
    about: "The way back from the archive brings no verifier.",
    ending: "oauth1.verifier-missing",
    asks: "oauth1",
  },
  {
    name: "wharf-verifier-twice",
    about: "The way back from the archive brings two verifiers.",
    ending: "response.parameter-duplicated",
    asks: "oauth1",
  },
  {
    name: "wharf-token-of-another",
    about: "The way back from the archive is of another sign-in.",
    ending: "response.state-altered",
    asks: "oauth1",
  },
  { name: "wharf-declined", about: "The person says no at the archive.", ending: "declined", asks: "oauth1" },
  {
    name: "token-credentials-refused",
    about: "The archive refuses the request for token credentials.",
    ending: "oauth1.credentials-refused",
    asks: "oauth1",
  },
  {
    name: "token-credentials-500",
    about: "The archive breaks down at the token credentials.",
    ending: "grant.unavailable",
    asks: "oauth1",
  },
  {
    name: "token-credentials-without-token",
    about: "Token credentials come without a token.",
    ending: "oauth1.answer-refused",
    asks: "oauth1",
  },
  {
    name: "wharf-profile-refused",
    about: "The archive does not say who it is.",
    ending: "identity.userinfo-refused",
    asks: "oauth1",
  },
  {
    name: "wharf-profile-page",
    about: "The archive says who it is in a web page.",
    ending: "identity.userinfo-refused",
    asks: "oauth1",
  },
  {
    name: "wharf-profile-without-number",
    about: "The profile has no number in it.",
    ending: "identity.profile-field-missing",
    asks: "oauth1",
  },
  // Boathouse Clinic
  {
    name: "launch-host-unknown",
    about: "The clinic opens the app in the name of a host that nobody has declared.",
    ending: "launch.host-unknown",
    asks: "launch",
  },
  {
    name: "launch-host-with-slash",
    about: "The clinic writes its address with a slash at the end.",
    ending: "launch.host-unknown",
    asks: "launch",
  },
  {
    name: "launch-host-missing",
    about: "The clinic opens the app without its address.",
    ending: "launch.host-unknown",
    asks: "launch",
  },
  {
    name: "launch-host-twice",
    about: "The clinic opens the app with two addresses.",
    ending: "launch.parameters-refused",
    asks: "launch",
  },
  {
    name: "launch-value-empty",
    about: "The launch value is empty.",
    ending: "launch.parameters-refused",
    asks: "launch",
  },
  {
    name: "launch-value-twice",
    about: "There are two launch values.",
    ending: "launch.parameters-refused",
    asks: "launch",
  },
  {
    name: "launch-value-expired",
    about: "The launch value is not valid any more when it comes back.",
    ending: "response.provider-error",
    asks: "launch",
  },
  {
    name: "launch-value-of-another-app",
    about: "The launch value was another app's.",
    ending: "response.provider-error",
    asks: "launch",
  },
  {
    name: "launch-audience-refused",
    about: "The clinic takes aud for another server's.",
    ending: "response.provider-error",
    asks: "launch",
  },
  {
    name: "configuration-missing",
    about: "There is no configuration at the clinic's address.",
    ending: "provider.metadata-not-found",
    asks: "launch",
  },
  {
    name: "configuration-500",
    about: "The configuration fails.",
    ending: "provider.unavailable",
    asks: "launch",
  },
  {
    name: "configuration-page",
    about: "The configuration is a web page.",
    ending: "platform.not-json",
    asks: "launch",
  },
  {
    name: "configuration-without-pkce",
    about: "The configuration does not say that PKCE is spoken.",
    ending: "provider.metadata-refused",
    asks: "launch",
  },
  {
    name: "configuration-with-plain-only",
    about: "The configuration has PKCE without a hash only.",
    ending: "provider.metadata-refused",
    asks: "launch",
  },
  {
    name: "configuration-without-capabilities",
    about: "The configuration lists no capabilities.",
    ending: "provider.metadata-refused",
    asks: "launch",
  },
  {
    name: "configuration-without-launch",
    about: "The configuration does not say that apps can be opened.",
    ending: "launch.capability-missing",
    asks: "launch",
  },
  {
    name: "configuration-without-token-endpoint",
    about: "The configuration has no token endpoint.",
    ending: "provider.metadata-refused",
    asks: "launch",
  },
  {
    name: "configuration-without-keys",
    about: "The configuration has no keys for ID tokens.",
    ending: "provider.metadata-refused",
    asks: "launch",
  },
  {
    name: "configuration-issuer-elsewhere",
    about: "The configuration names an issuer somewhere else.",
    ending: "provider.issuer-mismatch",
    asks: "launch",
  },
  {
    name: "context-patient-missing",
    about: "Access to a patient's data is granted, and no patient named.",
    ending: "launch.context-missing",
    asks: "launch",
  },
  {
    name: "context-patient-number",
    about: "The patient is a number.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-patient-null",
    about: "The patient is null.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-patient-path",
    about: "The patient is a path that leads to another resource.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-encounter-list",
    about: "The visit is a list.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-banner-text",
    about: "need_patient_banner is a text.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-references-object",
    about: "fhirContext is an object.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-reference-empty",
    about: "A reference in fhirContext refers to nothing.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-reference-without-role",
    about: "A reference in fhirContext has an empty role.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-reference-patient",
    about: "fhirContext names another patient.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-intent-number",
    about: "The intent is a number.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-tenant-object",
    about: "The tenant is an object.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-too-long",
    about: "The context is longer than anybody reads.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "context-patient-of-another",
    about: "The patient is another one than the ward shows.",
    ending: "signed in",
    asks: "launch",
  },
  {
    name: "fhir-user-number",
    about: "fhirUser is a number.",
    ending: "launch.context-refused",
    asks: "launch",
  },
  {
    name: "launch-id-token-missing",
    about: "The ID token is missing.",
    ending: "identity.id-token-missing",
    asks: "launch",
  },
  {
    name: "launch-token-type-missing",
    about: "The token answer does not say of which type the token is.",
    ending: "grant.answer-refused",
    asks: "launch",
  },
  {
    name: "scope-narrower",
    about: "Less is granted than was asked for.",
    ending: "signed in",
    asks: "launch",
  },
  {
    name: "style-hostile",
    about: "The style's colours are addresses and rules.",
    ending: "signed in",
    asks: "launch",
  },
  {
    name: "style-elsewhere",
    about: "The style is at an origin that nobody has declared.",
    ending: "signed in",
    asks: "launch",
  },
  {
    name: "style-no-address",
    about: "The style's address is a script.",
    ending: "signed in",
    asks: "launch",
  },
  { name: "style-page", about: "The style is a web page.", ending: "signed in", asks: "launch" },
  {
    name: "style-too-long",
    about: "The style is longer than anybody reads.",
    ending: "signed in",
    asks: "launch",
  },
  {
    name: "patient-switched-on-refresh",
    about: "A refresh brings another patient, and names no visit.",
    ending: "signed in",
    asks: "launch",
  },
] as const satisfies readonly Rehearsal[];

export type RehearsalName = (typeof rehearsals)[number]["name"];

export function isRehearsal(name: string): name is RehearsalName {
  return rehearsals.some((rehearsal) => rehearsal.name === name);
}

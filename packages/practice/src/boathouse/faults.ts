import type { RehearsalName } from "../rehearsals.js";

type Members = Readonly<Record<string, unknown>>;
type Faults<Change> = Partial<Readonly<Record<RehearsalName, Change>>>;
const json = (body: unknown, status = 200) => Response.json(body, { status });
const page = (status: number) =>
  new Response("<!doctype html><title>Clinic</title><p>Please wait.", {
    status,
    headers: { "content-type": "text/html" },
  });
const set = (more: Members) => (members: Members) => ({ ...members, ...more });
const drop =
  (...names: readonly string[]) =>
  (members: Members): Members =>
    Object.fromEntries(Object.entries(members).filter(([name]) => !names.includes(name)));

/** What the ward makes of the address that it opens an app by. */
export const openingFaults: Faults<(url: URL) => void> = {
  "launch-host-unknown": (url) => url.searchParams.set("iss", "https://records.elsewhere.example/fhir"),
  "launch-host-with-slash": (url) => url.searchParams.set("iss", `${url.searchParams.get("iss") ?? ""}/`),
  "launch-host-missing": (url) => url.searchParams.delete("iss"),
  "launch-host-twice": (url) => url.searchParams.append("iss", "https://records.elsewhere.example/fhir"),
  "launch-value-empty": (url) => url.searchParams.set("launch", ""),
  "launch-value-twice": (url) => url.searchParams.append("launch", "another"),
};

/** What the clinic answers a request with before anything else. */
export const requestFaults: Faults<readonly [error: string, description: string]> = {
  "launch-value-expired": ["invalid_request", "The launch value is not valid any more."],
  "launch-value-of-another-app": ["unauthorized_client", "This launch was for another app."],
  "launch-audience-refused": ["invalid_request", "aud is not this FHIR server."],
};

export const configurationFaults: Faults<(members: Members) => Response> = {
  "configuration-missing": () => page(404),
  "configuration-500": () => page(500),
  "configuration-page": () => page(200),
  "configuration-without-pkce": (members) => json(drop("code_challenge_methods_supported")(members)),
  "configuration-with-plain-only": (members) =>
    json(set({ code_challenge_methods_supported: ["plain"] })(members)),
  "configuration-without-capabilities": (members) => json(drop("capabilities")(members)),
  "configuration-without-launch": (members) =>
    json({
      ...members,
      capabilities: (members["capabilities"] as readonly string[]).filter((each) => each !== "launch-ehr"),
    }),
  "configuration-without-token-endpoint": (members) => json(drop("token_endpoint")(members)),
  "configuration-without-keys": (members) => json(drop("jwks_uri")(members)),
  "configuration-issuer-elsewhere": (members) =>
    json(set({ issuer: "https://id.elsewhere.example" })(members)),
};

/** What is wrong with the context that comes with an access token. */
export const contextFaults: Faults<(members: Members) => Members> = {
  "context-patient-missing": drop("patient"),
  "context-patient-number": set({ patient: 4711 }),
  "context-patient-null": set({ patient: null }),
  "context-patient-path": set({ patient: "../Practitioner/ib" }),
  "context-encounter-list": set({ encounter: ["visit-201"] }),
  "context-banner-text": set({ need_patient_banner: "true" }),
  "context-references-object": set({ fhirContext: { reference: "ImagingStudy/1" } }),
  "context-reference-empty": set({ fhirContext: [{ role: "launch" }] }),
  "context-reference-without-role": set({ fhirContext: [{ reference: "ImagingStudy/1", role: "" }] }),
  "context-reference-patient": set({ fhirContext: [{ reference: "Patient/rower-jun" }] }),
  "context-intent-number": set({ intent: 1 }),
  "context-tenant-object": set({ tenant: { name: "Boathouse Clinic" } }),
  "context-too-long": set({
    fhirContext: Array.from({ length: 400 }, (_, id) => ({ reference: `ImagingStudy/${id}` })),
  }),
  "style-elsewhere": set({ smart_style_url: "https://styles.elsewhere.example/style.json" }),
  "style-no-address": set({ smart_style_url: "javascript:alert(1)" }),
};

/** The rest of the token answer. */
export const clinicTokenFaults: Faults<(members: Members) => Members> = {
  "launch-token-type-missing": drop("token_type"),
  "launch-id-token-missing": drop("id_token"),
};

export const styleFaults: Faults<() => Response> = {
  "style-hostile": () =>
    json({ color_background: "url(https://elsewhere.example/seen)", color_text: "red;} body{display:none" }),
  "style-page": () => page(200),
  "style-too-long": () => json({ color_background: "#ffffff", more: "x".repeat(100_000) }),
};

// The server's part: the clinic opens the app here; tokens stay here, and the page calls the clinic's record through it.
import { forExpress } from "tenonsaw/express";
import { createSignIn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";

const {
  ORIGIN: origin = "http://localhost:5173",
  CLINIC: clinic = "http://127.0.0.1:4608/riverside/fhir",
  DATABASE: database = "app.db",
} = process.env;

/** As middleware for Vite, and for every server that knows such. */
export async function signInMiddleware() {
  const signIn = await createSignIn({
    origin,
    store: openSqliteStore(database),
    providers: {
      boathouse: {
        title: "Boathouse Clinic",
        issuer: clinic,
        discovery: "smart",
        clientId: "rowers-health",
        clientSecret: { env: "CLINIC_SECRET" },
        scope: "openid fhirUser launch/patient patient/Patient.r patient/Observation.rs offline_access",
        launch: { frameAncestors: [new URL(clinic).origin] },
      },
    },
    apis: {
      record: { provider: "boathouse", relay: ["/Patient/*", "/Observation", "/Practitioner/*"] },
    },
    development: true,
  });
  const policy = `frame-ancestors ${signIn.frameAncestors.join(" ")}`;
  const { middleware } = forExpress(signIn);
  return (request, response, next) => {
    response.setHeader("content-security-policy", policy);
    return middleware(request, response, next);
  };
}

import { describe, expect, it } from "vitest";
import type { Grant } from "../grant/index.js";
import { createPlatform } from "../platform/index.js";
import { openHost, type Host, type Provider, type ResolvedProviderSettings } from "../provider/index.js";
import { createTools } from "../trace/index.js";
import {
  confirmToken,
  explainScope,
  findHost,
  isMiswritten,
  missingCapabilities,
  missingScopes,
  neededCapabilities,
  readContext,
  readResourceScope,
  renewContext,
  resolveUser,
  told,
} from "./index.js";

const smart = openHost(
  {
    issuer: "https://records.boathouse.example/fhir",
    discovery: "smart",
    launch: { context: { cox: "object" } },
  } as unknown as ResolvedProviderSettings,
  { capabilities: ["launch-ehr", "sso-openid-connect"] },
);
const problemOf = (work: () => unknown) => {
  try {
    return work();
  } catch (error) {
    const { problem } = error as {
      readonly problem: { code: string; findings?: readonly { path: string }[] };
    };
    return [problem.code, ...(problem.findings ?? []).map(({ path }) => path)].join(" ");
  }
};

describe("scopes", () => {
  it.each([
    ["patient/Observation.rs", 2, "patient", "Observation", "read search"],
    ["patient/Observation.read", 1, "patient", "Observation", "read search"],
    ["user/*.write", 1, "user", "*", "create update delete"],
    ["system/*.*", 1, "system", "*", "create read update delete search"],
    ["user/Appointment.cruds", 2, "user", "Appointment", "create read update delete search"],
    ["patient/Observation.r?category=laboratory&code=2524-7", 2, "patient", "Observation", "read"],
  ])("reads %s", (text, version, level, resource, may) => {
    const scope = readResourceScope(text);
    expect([scope?.version, scope?.level, scope?.resource, scope?.may.join(" ")]).toEqual([
      version,
      level,
      resource,
      may,
    ]);
  });

  it.each([
    "patient/Observation.sr",
    "patient/Observation.",
    "patient/Observation",
    "patient/observation.rs",
    "patient/Observation.rss",
    "patient/Observation.read?category=laboratory",
    "system/.rs",
    "user/*.readwrite",
  ])("knows %s for one that is written wrong", (text) => {
    expect([readResourceScope(text), isMiswritten(text), explainScope(text)]).toEqual([
      undefined,
      true,
      undefined,
    ]);
  });

  it.each([
    [
      "patient/Observation.rs?category=laboratory",
      "read and search Observation resources of the patient in context, with category laboratory only",
    ],
    ["user/*.read", "read and search resources of every type that the person who is signed in may see"],
    ["system/Patient.c", "create Patient resources that the host allows this app itself, without a person"],
    ["launch/questionnaire?role=pre-row", "have a questionnaire chosen in the role pre-row"],
    ["online_access", "go on for as long as the person stays signed in at the host (a refresh token)"],
    ["tides.read", undefined],
  ])("says in words what %s allows", (text, words) => {
    expect(explainScope(text)).toBe(words);
  });

  it.each([
    ["patient/Observation.read openid", "patient/*.rs openid", ""],
    ["patient/Observation.rs", "patient/Observation.r patient/*.s", ""],
    ["patient/Observation.rs", "patient/Observation.r", "patient/Observation.rs"],
    ["patient/Observation.rs", "user/Observation.rs", "patient/Observation.rs"],
    ["patient/Observation.rs", "patient/Observation.rs?category=laboratory", "patient/Observation.rs"],
    [
      "patient/Observation.rs?category=laboratory&code=2524-7",
      "patient/Observation.rs?category=laboratory",
      "",
    ],
    ["patient/*.read", "patient/Observation.read patient/Patient.read", "patient/*.read"],
    ["openid offline_access", "openid", "offline_access"],
  ])("of %s, %s lacks: %s", (asked, granted, missing) => {
    expect(missingScopes(asked, granted).join(" ")).toBe(missing);
  });
});

describe("capabilities", () => {
  it("follow from scopes, client and where the launch comes from; or are those that the settings name", () => {
    const scope =
      "openid launch/patient patient/Patient.read user/Observation.rs offline_access online_access";
    const provider = { host: smart, scope, clientAuthentication: "private_key_jwt" as const };
    const named = (from: "host" | "app") =>
      neededCapabilities(provider, from).map(({ capability }) => capability);
    const common = [
      "client-confidential-asymmetric",
      "sso-openid-connect",
      "permission-offline",
      "permission-online",
      "permission-patient",
      "permission-user",
      "permission-v1",
      "permission-v2",
    ];
    expect(named("host")).toEqual(["launch-ehr", ...common, "context-ehr-patient"]);
    expect(named("app")).toEqual(["launch-standalone", ...common, "context-standalone-patient"]);
    const [missing] = missingCapabilities(smart, neededCapabilities(provider, "app"));
    expect(missing).toEqual({
      path: "launch-standalone",
      message: "is not listed, and the launch begins at this app",
    });
    const own = { ...provider, host: { ...smart, launch: { needs: ["launch-ehr"] } } };
    expect(missingCapabilities(smart, neededCapabilities(own, "app"))).toEqual([]);
  });
});

describe("context", () => {
  it("is the host's, by names of its own, and only what has been declared", () => {
    const members = {
      patient: "1",
      need_patient_banner: false,
      fhirContext: [{ reference: "Patient/2", role: "relative" }, { identifier: { value: "x" } }],
      cox: { name: "Ib" },
    };
    expect(readContext(smart, members, "patient/*.rs")).toEqual({
      patient: "1",
      needPatientBanner: false,
      fhirContext: members.fhirContext,
      own: { cox: { name: "Ib" } },
    });
    // A host without health records has the members that the settings name, and no others.
    const boats: Host = { ...smart, isSmart: false, context: { boat: "string", patient: "number" } };
    expect(readContext(boats, { boat: "Otter", patient: 7 }, "openid")).toEqual({
      fhirContext: [],
      own: { boat: "Otter", patient: 7 },
    });
    expect(problemOf(() => readContext(boats, { boat: ["Otter"] }, ""))).toBe("launch.context-refused boat");
  });

  it.each([
    [{ patient: "" }, "patient"],
    [{ patient: "a/b" }, "patient"],
    [{ patient: ".." }, "patient"],
    [{ patient: "x".repeat(65) }, "patient"],
    [{ encounter: { id: "1" } }, "encounter"],
    [{ fhirContext: ["ImagingStudy/1"] }, "fhirContext.0"],
    [{ fhirContext: [{ reference: "ImagingStudy/1", type: 1 }] }, "fhirContext.0.type"],
    [{ fhirContext: [{ reference: "Encounter/1", role: "launch" }] }, "fhirContext.0.reference"],
    [{ need_patient_banner: 1, tenant: [] }, "need_patient_banner tenant"],
    [{ cox: "Ib" }, "cox"],
  ])("is refused where it is %j", (members, path) => {
    expect(problemOf(() => readContext(smart, members as never, ""))).toBe(`launch.context-refused ${path}`);
  });

  it("has to come with what was granted for it", () => {
    for (const scope of ["patient/Observation.rs", "launch/patient", "patient/*.read"])
      expect(
        problemOf(() => readContext(smart, {}, scope)),
        scope,
      ).toBe("launch.context-missing");
    expect(problemOf(() => readContext(smart, { patient: "1" }, "launch/encounter"))).toBe(
      "launch.context-missing",
    );
    expect(readContext(smart, {}, "user/*.rs openid")).toEqual({ fhirContext: [], own: {} });
  });

  it("stays as it was where a refresh brings one that cannot be used, and that is reported", () => {
    const reports: unknown[] = [];
    const tools = createTools({ report: (error) => reports.push(error) });
    const before = { patient: "1", $user: "https://records.boathouse.example/fhir/Practitioner/1" };
    expect(renewContext(tools, smart, before, { ...before, patient: "2" })).toMatchObject({ patient: "2" });
    expect(renewContext(tools, smart, before, undefined)).toBe(before);
    expect(reports).toEqual([]);
    expect(renewContext(tools, smart, before, { ...before, patient: 2 })).toBe(before);
    expect(reports).toMatchObject([{ problem: { code: "launch.context-refused" } }]);
    expect(told(before)).toEqual({ patient: "1" });
  });

  it("names the person's record below the host, whole or in part", () => {
    const at = `${smart.base}/Practitioner/7`;
    const found = [
      { fhirUser: at },
      { fhirUser: "Practitioner/7" },
      // As the first version of the standard had it; mostly a profile is a page about somebody.
      { profile: "Practitioner/7" },
      { profile: "https://ferrywell.example/people/7" },
      {},
    ].map((claims) => resolveUser(smart, claims));
    expect(found).toEqual([at, at, at, undefined, undefined]);
    for (const fhirUser of [
      7,
      "https://",
      "javascript:alert(1)",
      "javascript:alert(1)//Practitioner/7",
      "data:text/html,x/Practitioner/7",
      "http://records.boathouse.example/Practitioner/7",
      "Practitioner/../7",
      "Practitioner/..",
      "Boat/7",
    ])
      expect(
        problemOf(() => resolveUser(smart, { fhirUser })),
        String(fhirUser),
      ).toBe("launch.context-refused fhirUser");
  });
});

describe("hosts", () => {
  const hosts = [
    { name: "one", issuer: "https://records.boathouse.example/fhir" },
    {
      name: "many",
      issuer: "https://many.example/{house}/fhir",
      launch: { tenants: { placeholder: "{house}", admitted: "any" as const } },
    },
    {
      name: "few",
      issuer: "https://{house}.few.example/fhir",
      launch: { tenants: { placeholder: "{house}", admitted: ["mill"] } },
    },
  ];
  const because = (iss: string | undefined) => {
    try {
      return findHost(hosts, iss);
    } catch (error) {
      return (error as { readonly problem: { readonly because?: string } }).problem.because ?? "unknown";
    }
  };

  it.each([
    ["https://records.boathouse.example/fhir", { name: "one" }],
    ["https://many.example/wharf-street/fhir", { name: "many", tenant: "wharf-street" }],
    ["https://mill.few.example/fhir", { name: "few", tenant: "mill" }],
    ["https://weir.few.example/fhir", "tenant"],
    ["https://records.boathouse.example/fhir/", "slash"],
    ["https://Records.Boathouse.example/fhir", "letters"],
    ["http://records.boathouse.example/fhir", "scheme"],
    ["https://many.example/a/b/fhir", "unknown"],
    ["https://many.example/../fhir", "unknown"],
    ["https://many.example//fhir", "unknown"],
    ["https://elsewhere.example/?x=.few.example/fhir", "unknown"],
    ["https://evil.example#.few.example/fhir", "unknown"],
    ["", "absent"],
    [undefined, "absent"],
  ])("finds %s: %j", (iss, found) => {
    expect(because(iss)).toEqual(found);
  });
});

describe("an access token", () => {
  const endpoint = "https://records.boathouse.example/introspect";
  const ask = async (answer: object | undefined, status = 200) => {
    const fetching = () => Promise.resolve(Response.json(answer, { status }));
    const provider = {
      host: smart,
      metadata: answer ? { introspection_endpoint: endpoint } : {},
      clientId: "rowers-health",
      clientAuthentication: "none",
      deviations: {},
      timeoutSeconds: 5,
      tools: createTools({ platform: createPlatform({ fetch: fetching }) }),
    } as unknown as Provider;
    const grant = { accessToken: "at", context: { patient: "1" } } as unknown as Grant;
    return confirmToken(provider, grant).catch((error: unknown) => {
      const { problem } = error as { readonly problem: { readonly code: string; readonly because?: string } };
      return `${problem.code} ${problem.because ?? ""}`;
    });
  };

  it("is confirmed by the host that gave it, for itself and the patient", async () => {
    const good = { active: true, aud: smart.base, patient: "1" };
    expect(await ask(undefined)).toBeUndefined();
    expect(await ask(good)).toEqual(good);
    expect(await ask({ active: true })).toEqual({ active: true });
    expect(await ask({ ...good, aud: ["x", smart.base] })).toMatchObject({ active: true });
    expect(await ask({ ...good, active: "true" })).toBe("launch.token-unconfirmed inactive");
    expect(await ask({ ...good, aud: "https://elsewhere.example" })).toBe(
      "launch.token-unconfirmed audience",
    );
    expect(await ask({ ...good, patient: "2" })).toBe("launch.token-unconfirmed patient");
    expect(await ask(good, 403)).toBe("launch.token-unconfirmed ");
  });
});

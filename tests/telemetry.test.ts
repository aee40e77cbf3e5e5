import { mkdtemp, readFile, rm, writeFile } from "node:fs/promises";
import { join } from "node:path";
import { expect, it } from "vitest";
import { createVisitor, defaultClient, startPractice } from "tenonsaw-practice";
import { freePorts, root, start } from "./support/processes.js";

it("an app's sign-ins are traces, their requests spans, and its problems lines of its log", async () => {
  const port = await freePorts(1);
  const origin = `http://localhost:${port}`;
  const practice = await startPractice({
    clients: [{ ...defaultClient, redirectUris: [`${origin}/sign-in/from/quayside`] }],
  });
  const folder = await mkdtemp(`${root}examples/telemetry/.trial-`);
  const program = (await readFile(`${root}examples/telemetry/server.js`, "utf8"))
    .replaceAll("5173", String(port))
    .replaceAll("http://localhost:4600", practice.issuer)
    .replaceAll("http://localhost:4601", practice.tidebook)
    .replaceAll("./spans.js", "../spans.js")
    .replaceAll("app.db", join(folder, "app.db"));
  await writeFile(join(folder, "server.mjs"), program);
  const running = start(join(folder, "server.mjs"), [], {
    env: {
      TENONSAW_KEYS: Buffer.alloc(32, 1).toString("base64url"),
      QUAYSIDE_SECRET: "only-for-practice",
      NO_COLOR: "1",
    },
  });
  const signIn = async () => {
    const visitor = createVisitor();
    await visitor.open(origin, { accept: "text/html" });
    await visitor.press("Sign in with quayside");
    await visitor.press("Maren");
    return visitor.press("Yes, allow");
  };
  try {
    await expect
      .poll(() =>
        fetch(origin).then(
          ({ status }) => status,
          () => 0,
        ),
      )
      .toBe(401);
    await signIn();
    practice.rehearse("nonce-wrong");
    await signIn();
  } finally {
    running.signal("SIGTERM");
    await practice.stop();
    await rm(folder, { recursive: true });
  }
  const { output, errors } = await running.finished;
  const spans = [
    ...output.matchAll(/traceId: '(\w+)'[^]*?parentSpanContext: ([^]*?)traceState[^]*?name: '([^']+)'/g),
  ].map(([, traceId, parent, name]) => ({ traceId, name, isRoot: parent?.startsWith("undefined") === true }));
  const roots = spans.filter(({ isRoot }) => isRoot);
  const partsOf = (trace?: string) =>
    spans.filter((each) => !each.isRoot && each.traceId === trace).map(({ name }) => name);
  const ways = roots.filter(({ name }) => name === "Sign-in at quayside");
  expect(ways).toHaveLength(2);
  expect(partsOf(ways[0]?.traceId)).toEqual([
    "metadata request",
    "token request",
    "key set request",
    "userinfo request",
  ]);
  expect(partsOf(ways[1]?.traceId)).toEqual(["token request"]);
  const call = roots.find(({ name }) => name === "Call of tidebook: GET /tides/today");
  expect(partsOf(call?.traceId)).toEqual(["API request"]);
  const lines = errors
    .trim()
    .split("\n")
    .map((line) => JSON.parse(line) as Record<string, unknown>);
  expect(lines).toEqual([
    expect.objectContaining({
      level: 40,
      during: "GET /sign-in/from/quayside",
      problem: expect.objectContaining({ code: "identity.nonce-mismatch" }) as unknown,
    }),
  ]);
});

import { expect, it } from "vitest";
import { createVisitor } from "tenonsaw-practice";
import { startExample } from "./support/start-example.js";

it("an app's sign-ins are traces, their requests spans, and its problems lines of its log", async () => {
  const { origin, practice, running, stop } = await startExample("telemetry", "quayside", { NO_COLOR: "1" });
  const signIn = async () => {
    const visitor = createVisitor();
    await visitor.open(origin, { accept: "text/html" });
    await visitor.press("Sign in with quayside");
    await visitor.press("Maren");
    return visitor.press("Yes, allow");
  };
  try {
    await signIn();
    practice.rehearse("nonce-wrong");
    await signIn();
  } finally {
    await stop("SIGTERM");
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
  expect(partsOf(ways[1]?.traceId)).toEqual(["token request", "revocation request"]);
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

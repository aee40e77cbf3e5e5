// An app whose problems go to a pino log, and whose sign-ins are traces of OpenTelemetry.
import { createServer } from "node:http";
import { BasicTracerProvider, ConsoleSpanExporter, SimpleSpanProcessor } from "@opentelemetry/sdk-trace-base";
import pino from "pino";
import { createSignIn, describeReport, passOn } from "tenonsaw/server";
import { nodeListener } from "tenonsaw/node";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
import { traceInto } from "./spans.js";

// Written before the request is answered: nothing is lost when the process is ended.
const log = pino(pino.destination({ dest: 2, sync: true }));
// In production an exporter of OTLP stands here.
const spans = new BasicTracerProvider({
  spanProcessors: [new SimpleSpanProcessor(new ConsoleSpanExporter())],
});
const scope = "openid profile tides.read";
const client = { clientId: "ferrywell", clientSecret: { env: "QUAYSIDE_SECRET" }, scope };
const signIn = await createSignIn({
  origin: "http://localhost:5173",
  store: openSqliteStore("app.db"),
  providers: { quayside: { issuer: "http://localhost:4600", ...client } },
  apis: { tidebook: { provider: "quayside", origin: "http://localhost:4601" } },
  trace: traceInto(spans.getTracer("ferrywell")),
  onProblem(report) {
    const { problem, during, error } = report;
    log[problem.status < 500 ? "warn" : "error"]({ problem, during, err: error }, describeReport(report));
  },
});

const app = signIn.protect(async (_request, session) =>
  passOn(await session.fetch("tidebook", "/tides/today")),
);
createServer(nodeListener(signIn, app)).listen(5173, "localhost");

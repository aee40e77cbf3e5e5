// What happens as spans of OpenTelemetry: each sign-in is a trace of its own, and so is each call of an API; each request
// to a provider or an API is a span in it, and a check that fails is an event.
import { context, SpanKind, SpanStatusCode, trace as tracing } from "@opentelemetry/api";

/** @returns the `trace` for createSignIn's settings */
export function traceInto(tracer) {
  const ways = new Map(); // the span that stands for a whole way, by its name
  const isOver = new Set(["signed in", "declined", "linked", "signed out", "problem"]);
  const close = (way) => {
    ways.get(way)?.end();
    ways.delete(way);
  };
  return (event) => {
    const { way, kind, at } = event;
    if (way === undefined) return;
    if (kind === "way" && event.was) {
      // What was a request by itself turns out to be a sign-in's: its beginning, or what comes back to it.
      const request = ways.get(event.was);
      ways.delete(event.was);
      if (ways.has(way)) request?.end();
      else ways.set(way, request?.updateName(event.title));
      return;
    }
    if (!ways.has(way)) {
      const span = tracer.startSpan(event.title ?? "request", {
        startTime: at * 1000,
        root: true,
      });
      ways.set(way, span);
      setTimeout(close, 600_000, way).unref(); // a sign-in that nobody ends is over after ten minutes
    }
    const span = ways.get(way);
    if (kind === "leg") {
      const attributes = { "http.request.method": event.method, "url.full": event.url };
      if (event.status !== undefined) attributes["http.response.status_code"] = event.status;
      const options = { kind: SpanKind.CLIENT, startTime: at * 1000, attributes };
      const leg = tracer.startSpan(event.leg, options, tracing.setSpan(context.active(), span));
      if ((event.status ?? 500) >= 400) leg.setStatus({ code: SpanStatusCode.ERROR });
      leg.end((at + event.durationSeconds) * 1000);
      if (event.leg === "API request") close(way);
    } else if (kind === "check" && event.verdict === "failed") {
      span.addEvent(event.check, { received: event.received ?? "", expected: event.expected ?? "" });
    } else if (kind === "note" && isOver.has(event.note)) {
      if (event.note === "problem")
        span.setStatus({ code: SpanStatusCode.ERROR, message: event.detail.problem });
      close(way);
    }
  };
}

import { Hono } from "hono";
import { createTools, KeySet, verifyJws } from "tenonsaw/jose";

export interface TidebookSettings {
  /** Whose tokens are taken. */
  readonly issuer: string;
  /** This API's own identifier, the audience of its tokens. */
  readonly audience: string;
  readonly keySetUrl: string;
  readonly algorithm: "RS256" | "PS256" | "ES256" | "EdDSA";
  readonly now: () => number;
}

/** Tidebook: an API for tides, for whoever brings an access token with `tides.read`. */
export function createTidebook(settings: TidebookSettings): Hono {
  const tools = createTools();
  const keys = new KeySet(tools, { keys: settings.keySetUrl, timeoutSeconds: 5 });
  const app = new Hono();
  app.get("/", (c) =>
    c.text("Tidebook, a practice API. Try /tides/today with an access token for tides.read."),
  );
  app.get("/tides/today", async (c) => {
    const [, token] = /^Bearer ([\w.~+/-]+=*)$/i.exec(c.req.header("authorization") ?? "") ?? [];
    // RFC 6750 3: without a token only the scheme is named.
    if (token === undefined) {
      c.header("www-authenticate", 'Bearer realm="Tidebook"');
      return c.json({ error: "An access token is needed." }, 401);
    }
    const claims = await readToken(token);
    if (!claims) {
      c.header("www-authenticate", 'Bearer realm="Tidebook", error="invalid_token"');
      return c.json({ error: "The access token is not accepted." }, 401);
    }
    if (!String(claims["scope"]).split(" ").includes("tides.read")) {
      c.header("www-authenticate", 'Bearer realm="Tidebook", error="insufficient_scope", scope="tides.read"');
      return c.json({ error: "The access token does not allow tides.read." }, 403);
    }
    c.header("cache-control", "no-store");
    return c.json({
      place: "Ferrywell landing",
      readAt: Math.floor(settings.now()),
      tides: tidesOf(settings.now()),
    });
  });
  return app;

  /** RFC 9068 section 4: type, signature, issuer, audience, expiry. */
  async function readToken(token: string): Promise<Readonly<Record<string, unknown>> | undefined> {
    try {
      const { header, payload } = await verifyJws(tools, token, [settings.algorithm], (head, algorithm) =>
        keys.find(head, algorithm),
      );
      const isOurs =
        header.typ === "at+jwt" &&
        payload["iss"] === settings.issuer &&
        payload["aud"] === settings.audience &&
        Number(payload["exp"]) > settings.now();
      return isOurs ? payload : undefined;
    } catch {
      return undefined;
    }
  }
}

/** Four tides a day, a little later each day, as tides are. */
function tidesOf(now: number) {
  const dayLengthSeconds = 86_400;
  const halfTideSeconds = 22_357;
  const midnight = Math.floor(now / dayLengthSeconds) * dayLengthSeconds;
  const first = Math.ceil(midnight / halfTideSeconds);
  return Array.from({ length: 4 }, (_, index) => {
    const number = first + index;
    const isHigh = number % 2 === 0;
    return {
      at: number * halfTideSeconds,
      kind: isHigh ? "high" : "low",
      heightMetres: Number(((isHigh ? 3.4 : 0.6) + (number % 7) * 0.1).toFixed(1)),
    };
  });
}

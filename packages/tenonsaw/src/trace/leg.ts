/** One request to a provider or an API. */
export interface Leg {
  readonly station: string;
  readonly leg: string;
  readonly url: string;
  readonly headers?: Readonly<Record<string, string>>;
  /** A form makes it a POST, application/x-www-form-urlencoded. */
  readonly form?: URLSearchParams;
  /** A JSON object makes it a POST, application/json. */
  readonly json?: Readonly<Record<string, unknown>>;
  readonly timeoutSeconds: number;
  /** Is called in the moment before the request is sent; what it throws is thrown, and nothing is sent. */
  readonly mayStart?: (() => void) | undefined;
}

/** What came back: status, headers, and the body within its limit. */
export interface Answer {
  readonly status: number;
  readonly headers: Headers;
  readonly text: string;
}

/** A leg that carries something is a POST. */
export function methodOf({ form, json }: Leg): "GET" | "POST" {
  return form || json ? "POST" : "GET";
}

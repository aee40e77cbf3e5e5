import * as v from "valibot";
import { endAfter, isSecureUrl } from "../platform/index.js";
import { fail, isProblem, quoted } from "../problem/index.js";
import { loadPart } from "../problem/load-part.js";
import {
  authenticateClient,
  mistakesIn,
  readMembers,
  requireProvider,
  requireTexts,
  type Provider,
} from "../provider/index.js";
import { note, requireAvailable, sendLeg, shapeOf } from "../trace/index.js";
import type { Grant } from "./grant.js";
import { askForTokens } from "./token-request.js";

/** A sign-in that a person finishes on another device. `deviceCode` is secret; the rest is for the person. */
export interface DeviceRequest {
  readonly deviceCode: string;
  /** What the person types in at `verificationUri`. */
  readonly userCode: string;
  readonly verificationUri: string;
  /** The same with the code in it, for a QR code or a link. */
  readonly verificationUriComplete?: string;
  readonly scope: string;
  /** Seconds since the epoch. */
  readonly expiresAt: number;
  /** The shortest time between two questions, in seconds. */
  readonly intervalSeconds: number;
}

/** However often a provider lets itself be asked. */
const shortestSeconds = 1;

const secureUrl = v.pipe(v.string(), v.check(isSecureUrl));
const deviceAnswer = v.object({
  device_code: v.pipe(v.string(), v.minLength(1)),
  user_code: v.pipe(v.string(), v.regex(/^[!-~ ]{1,64}$/)),
  verification_uri: secureUrl,
  verification_uri_complete: v.optional(secureUrl),
  expires_in: v.pipe(v.number(), v.minValue(1)),
  interval: v.optional(v.pipe(v.number(), v.minValue(0)), 5),
});

/**
 * Asks for a code that a person enters on another device: RFC 8628 sections 3.1 and 3.2.
 *
 * @param scope scopes to ask for instead of the provider's
 * @throws provider.not-open, attempt.parameters-refused, grant.device-not-offered, grant.client-refused, grant.device-refused, platform.*
 */
export async function requestDeviceCode(provider: Provider, scope?: string): Promise<DeviceRequest> {
  requireProvider(provider);
  const wanted = scope ?? provider.scope;
  requireTexts({ scope: wanted });
  const url = provider.metadata.device_authorization_endpoint;
  if (url === undefined)
    fail("grant.device-not-offered", { received: "metadata without device_authorization_endpoint" });
  const client = await authenticateClient(provider);
  const askedAt = Math.floor(provider.tools.platform.now());
  const answer = await sendLeg(provider.tools, {
    station: "grant",
    leg: "device authorization request",
    url,
    headers: client.headers,
    form: new URLSearchParams({
      client_id: provider.clientId,
      scope: wanted.replaceAll(" ", provider.deviations.scopeSeparator ?? " "),
      ...client.form,
    }),
    timeoutSeconds: provider.timeoutSeconds,
  });
  await requireAvailable(provider.tools, "device authorization request", answer);
  const body = readMembers(answer, "answer to the device authorization request");
  const result = v.safeParse(deviceAnswer, body);
  if (answer.status !== 200 || !result.success) {
    const mistakes = answer.status === 200 ? mistakesIn(result.issues ?? []) : [];
    const { refuseLeg } = await loadPart(import("../provider/refuse-leg.js"));
    return refuseLeg(provider, "grant.device-refused", answer, body, mistakes);
  }
  const { output } = result;
  return {
    deviceCode: output.device_code,
    userCode: output.user_code,
    verificationUri: output.verification_uri,
    ...(output.verification_uri_complete !== undefined && {
      verificationUriComplete: output.verification_uri_complete,
    }),
    scope: wanted,
    expiresAt: endAfter(output.expires_in, askedAt),
    intervalSeconds: output.interval,
  };
}

/**
 * Waits until the person has finished on the other device: RFC 8628 sections 3.4 and 3.5. Returns undefined when they
 * said no. Asks as often as the provider allows, less often when it says so, and not any more once the code has expired.
 *
 * @throws provider.not-open, attempt.parameters-refused, grant.device-expired, grant.device-ended when `signal` aborts, grant.*, platform.*
 */
export async function awaitDeviceGrant(
  provider: Provider,
  device: DeviceRequest,
  signal?: AbortSignal,
): Promise<Grant | undefined> {
  requireProvider(provider);
  if (typeof (device as Partial<DeviceRequest> | undefined)?.deviceCode !== "string")
    fail("attempt.parameters-refused", { received: `device: ${shapeOf(device)}`, because: "no-device" });
  if (signal !== undefined && !("aborted" in Object(signal)))
    fail("attempt.parameters-refused", { received: `signal: ${shapeOf(signal)}`, because: "no-signal" });
  const { platform } = provider.tools;
  let interval = Math.max(shortestSeconds, device.intervalSeconds);
  for (;;) {
    const secondsLeft = device.expiresAt - platform.now();
    await platform.wait(Math.min(interval, Math.max(0, secondsLeft)), signal);
    if (signal?.aborted === true) fail("grant.device-ended", { received: "a signal to stop waiting" });
    if (platform.now() >= device.expiresAt)
      fail("grant.device-expired", { received: "nothing until the code expired" });
    const answer = await askOnce(provider, device);
    if (answer === "pending") continue;
    if (answer === "declined") return undefined;
    if (typeof answer === "object") return answer;
    // 3.5: slow_down adds five seconds for good; where nobody answered, twice as long.
    interval = answer === "too fast" ? interval + 5 : interval * 2;
    note(provider.tools, "grant", `${answer}: asking less often`, { seconds: String(interval) });
  }
}

async function askOnce(
  provider: Provider,
  device: DeviceRequest,
): Promise<Grant | "pending" | "declined" | "too fast" | "no answer"> {
  try {
    const answer = await askForTokens(
      provider,
      {
        leg: "token request",
        form: {
          grant_type: "urn:ietf:params:oauth:grant-type:device_code",
          device_code: device.deviceCode,
        },
        scope: device.scope,
        invalidGrant: "grant.device-expired",
      },
      ["authorization_pending", "slow_down", "access_denied", "expired_token"],
    );
    if ("grant" in answer) return answer.grant;
    if (answer.error === "authorization_pending") return "pending";
    if (answer.error === "slow_down") return "too fast";
    if (answer.error === "access_denied") return "declined";
    return fail("grant.device-expired", { received: quoted(answer.error) });
  } catch (error) {
    if (isProblem(error, "grant.unavailable", "platform.too-slow", "platform.unreachable"))
      return "no answer";
    throw error;
  }
}

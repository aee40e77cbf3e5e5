import { lookup } from "node:dns/promises";
import { isIP } from "node:net";
import { connect } from "node:tls";
import { describeProblem } from "tenonsaw/problem";
import type { Platform } from "tenonsaw";
import { proxyFor, unreachableBecause } from "tenonsaw/trace";
import type { Findings } from "./finding.js";

/** Whether the provider's host has an address and, over https, a certificate that holds. */
export async function checkAddress(
  findings: Findings,
  platform: Platform,
  { href, hostname, protocol, port }: URL,
): Promise<boolean> {
  const proxy = await proxyFor(platform, href);
  if (proxy?.isUsed === true) {
    findings.good("name resolution and TLS", `by way of the proxy that ${proxy.variable} names`);
    return true;
  }
  const whyNot = async (error: unknown) =>
    describeProblem("platform.unreachable", { because: await unreachableBecause(error, platform, href) });
  const host = hostname.replace(/^\[|\]$/g, "");
  try {
    const { address } = await lookup(host);
    findings.good("name resolution", `${host} is ${address}`);
  } catch (error) {
    const { title, here = "" } = await whyNot(error);
    findings.wrong("name resolution", `${title}: ${host}`, here);
    return false;
  }
  if (protocol === "http:") {
    findings.good("TLS", "plain http, on loopback only");
    return true;
  }
  if (platform.environment("NODE_TLS_REJECT_UNAUTHORIZED") === "0")
    findings.wrong(
      "environment",
      "NODE_TLS_REJECT_UNAUTHORIZED is 0: with that, whoever is on the way can answer in the provider's place",
      "Take it away. An authority of your own is named in NODE_EXTRA_CA_CERTS.",
    );
  const { daysLeft, error } = await inspectCertificate(host, Number(port) || 443);
  if (error) {
    const { title, here, atProvider = "" } = await whyNot(error);
    const { code = error.name } = error as NodeJS.ErrnoException;
    findings.wrong("TLS", `${title}: ${host}:${port || "443"} (${code})`, here ?? atProvider);
  } else if (daysLeft < 14)
    findings.careful("TLS", `the certificate ends in ${daysLeft} days`, "Renew it.", "at the provider");
  else findings.good("TLS", `the certificate is good for ${daysLeft} days`);
  return error === undefined;
}

function inspectCertificate(host: string, port: number): Promise<{ daysLeft: number; error?: Error }> {
  return new Promise((resolve) => {
    // Held against whom Node trusts, whatever the environment says; a name is told, an address is none (RFC 6066 section 3).
    const name = isIP(host) === 0 ? { servername: host } : {};
    const socket = connect({ host, port, ...name, rejectUnauthorized: true, timeout: 8000 }, () => {
      const daysLeft = Math.floor(
        (Date.parse(socket.getPeerCertificate().valid_to) - Date.now()) / 86_400_000,
      );
      socket.end();
      resolve({ daysLeft });
    });
    socket.on("timeout", () =>
      socket.destroy(Object.assign(new Error("no answer within 8 s"), { code: "ETIMEDOUT" })),
    );
    socket.on("error", (error: Error) => resolve({ daysLeft: 0, error }));
  });
}

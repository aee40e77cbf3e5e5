import type { LaunchSettings, MemberType, ResolvedProviderSettings } from "./settings-types.js";

/** What makes a provider a host that may open this app. */
export interface Host {
  /** Where its API is and how it calls itself in `iss`: with SMART the base URL of the FHIR server, elsewhere the issuer. */
  readonly base: string;
  /** Whether it speaks SMART App Launch. */
  readonly isSmart: boolean;
  /** What it says that it can do; empty where it does not say. */
  readonly capabilities: readonly string[];
  /** Members of the token answer that tell of the context, and the JSON type of each. */
  readonly context: Readonly<Record<string, MemberType>>;
  readonly launch: LaunchSettings;
}

/** Where a host is, without a slash at its end: what is behind it is put together with one. */
export function baseOf({ issuer }: Pick<ResolvedProviderSettings, "issuer">): string {
  return issuer.replace(/\/$/, "");
}

/** Whether a provider may open this app. */
export function isHost({
  launch,
  discovery,
}: Pick<ResolvedProviderSettings, "discovery" | "launch">): boolean {
  return launch !== undefined || discovery === "smart";
}

import { encrypt } from "./encrypt.js";
import { encryptionFaults } from "../faults.js";
import type { RehearsalName } from "../rehearsals.js";
import type { Client } from "./state.js";

/** A signed token, encrypted for the client where it is registered so: signed first, then encrypted (RFC 7519 11.2). */
export async function encryptFor(
  { encryptionKey }: Client,
  token: string,
  fault: RehearsalName | undefined,
): Promise<string> {
  if (!encryptionKey) return token;
  const change = fault && encryptionFaults[fault];
  return change ? change(encryptionKey, token) : encrypt(encryptionKey, token);
}

import type { KeyObject } from "node:crypto";

/** A new pair of keys, whose export never waits for itself. */
export function newKeyPair(
  type: "rsa" | "ec" | "ed25519",
  options?: { readonly modulusLength?: number; readonly namedCurve?: string },
): { readonly privateKey: KeyObject; readonly publicKey: KeyObject };

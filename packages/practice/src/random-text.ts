import { randomBytes } from "node:crypto";

/** What nobody guesses: 256 bits at random, in base64url. */
export function randomText(): string {
  return randomBytes(32).toString("base64url");
}

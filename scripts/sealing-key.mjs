/** A sealing key for tests, the same in each of their processes; at an https origin no app takes one that is all one byte. */
export const sealingKey = Buffer.from("abcdefghijklmnopqrstuvwxyz012345").toString("base64url");

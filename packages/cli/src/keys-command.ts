import { generateKeyPair, randomBytes } from "node:crypto";
import { readFileSync, writeFileSync } from "node:fs";
import { promisify } from "node:util";
import { Command, Option } from "commander";
import { createPlatform, ProblemError, publicKeySet, readClientKeys, Secret } from "tenonsaw";
import { thumbprint, type Jwk } from "tenonsaw/jose";
import { readKeyRing } from "tenonsaw/server";
import { writeNewFile } from "./write-new-file.js";

const signingAlgorithms = ["EdDSA", "ES256", "ES384", "ES512", "PS256", "RS256"] as const;
type SigningAlgorithm = (typeof signingAlgorithms)[number];

interface KeysOptions {
  readonly out?: string;
  readonly rotate?: true;
  readonly signing?: SigningAlgorithm;
  readonly public?: string;
  readonly json?: true;
}

export function keysCommand(): Command {
  return new Command("keys")
    .description(
      "Make a sealing key, or a key to sign with, in a file of its own. The key is not printed; its thumbprint is.",
    )
    .option("--out <file>", 'the file; refer to it in the settings: "keys": { "file": … }, or "clientKeys"')
    .addOption(
      new Option(
        "--signing <algorithm>",
        "make a key pair for private_key_jwt instead, and print its public part",
      )
        .choices(signingAlgorithms)
        .conflicts("public"),
    )
    .option("--rotate", "put a new key in front of those in the file, which go on serving what they served")
    .addOption(
      new Option(
        "--public <file>",
        "print what to register of the signing keys in a file: a JWK Set",
      ).conflicts("out"),
    )
    .option("--json", "print for scripts")
    .addHelpText(
      "after",
      `
Examples:
  tenonsaw keys --out ferrywell.keys
  tenonsaw keys --out ferrywell.keys --rotate
  tenonsaw keys --signing ES256 --out client.keys
  tenonsaw keys --public client.keys

Exit code: 0 done, 2 it could not be done.`,
    )
    .action(run);
}

async function run(options: KeysOptions, command: Command): Promise<void> {
  if (options.public !== undefined) await showSigningKeys(options.public, options);
  else if (options.out === undefined) command.error("error: --out <file> is needed, or --public <file>");
  else if (options.signing === undefined) await makeSealingKey(options.out, options);
  else {
    await makeSigningKey(options.out, options.signing, options);
    await showSigningKeys(options.out, options);
  }
}

async function makeSealingKey(out: string, { rotate, json }: KeysOptions): Promise<void> {
  const before = rotate ? read(out) : undefined;
  const text = [randomBytes(32).toString("base64url"), ...(before === undefined ? [] : [before])].join(",");
  const { currentKeyId, keys } = await readKeyRing({ platform: createPlatform() }, text);
  write(out, text, rotate);
  const retired = [...keys.keys()].filter((keyId) => keyId !== currentKeyId);
  if (json) console.log(JSON.stringify({ file: out, current: currentKeyId, retired }));
  else {
    console.log(`${out} holds ${keys.size} key${keys.size === 1 ? "" : "s"}, readable by you only.`);
    console.log(`  current  ${currentKeyId}`);
    for (const keyId of retired) console.log(`  retired  ${keyId}`);
  }
}

/** A private JWK Set (RFC 7517 section 5); a key's ID is its thumbprint (RFC 7638). */
async function makeSigningKey(
  out: string,
  algorithm: SigningAlgorithm,
  { rotate }: KeysOptions,
): Promise<void> {
  const before = rotate ? readClientKeys(new Secret(read(out))) : [];
  const exported = (await generate(algorithm)).privateKey.export({ format: "jwk" }) as unknown as Jwk;
  const kid = await thumbprint({ platform: createPlatform() }, exported);
  const key = { ...exported, kid, use: "sig", alg: algorithm };
  write(out, JSON.stringify({ keys: [key, ...before] }, undefined, 2), rotate);
}

async function showSigningKeys(file: string, { json }: KeysOptions): Promise<void> {
  const published = publicKeySet(readClientKeys(new Secret(read(file))));
  if (json) {
    console.log(JSON.stringify(published, undefined, 2));
    return;
  }
  console.log(`${file} holds ${published.keys.length} to sign with. The first one signs:`);
  for (const key of published.keys) {
    const print = await thumbprint({ platform: createPlatform() }, key);
    console.log(
      `  ${(key.alg ?? "").padEnd(6)} ${key.kid ?? ""}${key.kid === print ? "" : `, thumbprint ${print}`}`,
    );
  }
  console.log("\nTo register, where the provider cannot fetch the app's key set URL (tenonsaw sheet):\n");
  console.log(JSON.stringify(published, undefined, 2));
}

function generate(algorithm: SigningAlgorithm) {
  const make = promisify(generateKeyPair);
  if (algorithm === "EdDSA") return make("ed25519", {});
  const curves = { ES256: "P-256", ES384: "P-384", ES512: "P-521" } as const;
  if (algorithm in curves) return make("ec", { namedCurve: curves[algorithm as keyof typeof curves] });
  return make("rsa", { modulusLength: 3072 });
}

function write(path: string, text: string, isThere = false): void {
  if (isThere) writeFileSync(path, `${text}\n`, { mode: 0o600 });
  else writeNewFile(path, `${text}\n`);
}

function read(path: string): string {
  try {
    return readFileSync(path, "utf8").trim();
  } catch (error) {
    throw new ProblemError("cli.file-unwritable", {
      received: `${path}: ${(error as NodeJS.ErrnoException).code ?? "unreadable"}`,
      here: "Name a file that is there; leave out --rotate to make one.",
      cause: error,
    });
  }
}

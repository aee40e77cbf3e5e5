import { createPrivateKey, generateKeyPair, randomBytes } from "node:crypto";
import { promisify } from "node:util";
import { Argument, Command, Option } from "commander";
import { createPlatform, publicKeySet, readClientKeys, Secret } from "tenonsaw";
import { thumbprint, type Jwk } from "tenonsaw/jose";
import { readKeyRing } from "tenonsaw/server";
import { readTextFile, replaceFile, writeNewFile } from "./files.js";

const signingAlgorithms = ["EdDSA", "ES256", "ES384", "ES512", "PS256", "RS256", "RS384"] as const;
type SigningAlgorithm = (typeof signingAlgorithms)[number];
const decryptionAlgorithms = [
  "RSA-OAEP",
  "RSA-OAEP-256",
  "ECDH-ES",
  "ECDH-ES+A128KW",
  "ECDH-ES+A256KW",
] as const;
type DecryptionAlgorithm = (typeof decryptionAlgorithms)[number];

interface KeysOptions {
  readonly out?: string;
  readonly rotate?: true;
  readonly promote?: true;
  readonly signing?: SigningAlgorithm;
  readonly decryption?: DecryptionAlgorithm;
  readonly public?: string;
  readonly json?: true;
}

export function keysCommand(): Command {
  return new Command("keys")
    .description(
      "Make a sealing key, or a key to sign or decrypt with, in a file of its own. The key is not printed; its thumbprint is.",
    )
    .addArgument(
      new Argument(
        "[step]",
        "rotate: add a new sealing key, which opens from then on; promote: once every process has it, seal with it",
      ).choices(["rotate", "promote"]),
    )
    .option("--out <file>", 'the file; refer to it in the settings: "keys": { "file": … }, or "clientKeys"')
    .addOption(
      new Option(
        "--signing <algorithm>",
        "make a key pair for private_key_jwt instead, and print its public part",
      )
        .choices(signingAlgorithms)
        .conflicts(["public", "decryption"]),
    )
    .addOption(
      new Option(
        "--decryption <algorithm>",
        "make a key pair that providers encrypt tokens for, and print its public part",
      )
        .choices(decryptionAlgorithms)
        .conflicts("public"),
    )
    .option(
      "--rotate",
      "as the step; with --signing and --decryption, put a new key in front of those in the file, which go on serving what they served",
    )
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
    tenonsaw keys rotate --out ferrywell.keys
    tenonsaw keys promote --out ferrywell.keys   # once every process has been started with the rotated file

  tenonsaw keys --signing ES256 --out client.keys
  tenonsaw keys --decryption RSA-OAEP-256 --out client.keys --rotate
  tenonsaw keys --public client.keys

Exit code: 0 done, 2 it could not be done.`,
    )
    .action(run);
}

async function run(
  action: "rotate" | "promote" | undefined,
  given: KeysOptions,
  command: Command,
): Promise<void> {
  const options: KeysOptions = action === undefined ? given : { ...given, [action]: true };
  const isOfPairs = [options.signing, options.decryption, options.public].some((each) => each !== undefined);
  if (options.promote && (isOfPairs || options.rotate))
    command.error("error: promote is for sealing keys, and a step of its own");
  if (options.public !== undefined && options.rotate)
    command.error("error: --public prints, and rotates nothing");
  if (options.public !== undefined) await showSigningKeys(options.public, options);
  else if (options.out === undefined) command.error("error: --out <file> is needed, or --public <file>");
  else if (options.signing === undefined && options.decryption === undefined)
    await makeSealingKey(options.out, options);
  else {
    await makeKeyPair(options.out, options);
    await showSigningKeys(options.out, options);
  }
}

/**
 * A process opens what any key in the file has sealed, and seals with the first. While some processes have been started with a new
 * key and some have not, nobody may seal with it: it comes last at first, and is put in front when all have it.
 */
async function makeSealingKey(out: string, { rotate, promote, json }: KeysOptions): Promise<void> {
  const platform = createPlatform();
  const isChange = rotate === true || promote === true;
  const before = isChange ? readTextFile(out).trim() : undefined;
  // By themselves first, so that what is wrong with one is said of its own place.
  if (before !== undefined) await readKeyRing({ platform }, before);
  const old = before?.split(",").map((each) => each.trim()) ?? [];
  const made = promote ? [] : [randomBytes(32).toString("base64url")];
  const text = (promote ? [...old.slice(-1), ...old.slice(0, -1)] : [...old, ...made]).join(",");
  const { currentKeyId, keys } = await readKeyRing({ platform }, text);
  write(out, text, isChange);
  const others = [...keys.keys()].filter((keyId) => keyId !== currentKeyId);
  const next = rotate ? others.at(-1) : undefined;
  const retired = others.filter((keyId) => keyId !== next);
  if (json) {
    console.log(
      JSON.stringify({ file: out, current: currentKeyId, ...(next !== undefined && { next }), retired }),
    );
    return;
  }
  console.log(`${out} holds ${keys.size} key${keys.size === 1 ? "" : "s"}, readable by you only.`);
  console.log(`  current  ${currentKeyId}`);
  if (next !== undefined) console.log(`  next     ${next}`);
  for (const keyId of retired) console.log(`  retired  ${keyId}`);
  if (next !== undefined)
    console.log(
      `\nStart every process with this file. When all of them have it, run\n  tenonsaw keys promote --out ${out}\nand start them once more: the new key seals from then on. Nobody is signed out in between.`,
    );
}

/** A private JWK Set (RFC 7517 section 5); a key's ID is its thumbprint (RFC 7638). */
async function makeKeyPair(out: string, { rotate, signing, decryption }: KeysOptions): Promise<void> {
  const algorithm = signing ?? decryption ?? "ES256";
  // Spread, they show themselves again: here they are to be written.
  const before = rotate
    ? readClientKeys(new Secret(readTextFile(out).trim())).map((each) => ({ ...each }))
    : [];
  const { privateKey } = await generate(algorithm);
  const exported = createPrivateKey(privateKey).export({ format: "jwk" }) as unknown as Jwk;
  const kid = await thumbprint({ platform: createPlatform() }, exported);
  const key = { ...exported, kid, use: decryption === undefined ? "sig" : "enc", alg: algorithm };
  write(out, JSON.stringify({ keys: [key, ...before] }, undefined, 2), rotate);
}

async function showSigningKeys(file: string, { json }: KeysOptions): Promise<void> {
  const published = publicKeySet(readClientKeys(new Secret(readTextFile(file).trim())));
  if (json) {
    console.log(JSON.stringify(published, undefined, 2));
    return;
  }
  const count = (use: string) => published.keys.filter((key) => (key.use ?? "sig") === use).length;
  const parts = [
    ...(count("sig") > 0 ? [`${count("sig")} to sign with, of which the first signs`] : []),
    ...(count("enc") > 0 ? [`${count("enc")} to decrypt with`] : []),
  ];
  console.log(`${file} holds ${parts.join(", and ")}:`);
  for (const key of published.keys) {
    const print = await thumbprint({ platform: createPlatform() }, key);
    console.log(
      `  ${(key.alg ?? "").padEnd(14)} ${key.kid ?? ""}${key.kid === print ? "" : `, thumbprint ${print}`}`,
    );
  }
  console.log("\nTo register, where the provider cannot fetch the app's key set URL (tenonsaw sheet):\n");
  console.log(JSON.stringify(published, undefined, 2));
}

/** As text: in Node 20 the export of a key that has just been made can wait for itself, for ever. */
function generate(algorithm: SigningAlgorithm | DecryptionAlgorithm) {
  const make = promisify(generateKeyPair);
  const publicKeyEncoding = { type: "spki", format: "pem" } as const;
  const privateKeyEncoding = { type: "pkcs8", format: "pem" } as const;
  if (algorithm === "EdDSA") return make("ed25519", { publicKeyEncoding, privateKeyEncoding });
  const curves = { ES256: "P-256", ES384: "P-384", ES512: "P-521" } as const;
  if (algorithm.startsWith("ECDH"))
    return make("ec", { namedCurve: "P-256", publicKeyEncoding, privateKeyEncoding });
  if (algorithm in curves)
    return make("ec", {
      namedCurve: curves[algorithm as keyof typeof curves],
      publicKeyEncoding,
      privateKeyEncoding,
    });
  return make("rsa", { modulusLength: 3072, publicKeyEncoding, privateKeyEncoding });
}

function write(path: string, text: string, isThere = false): void {
  if (isThere) replaceFile(path, `${text}\n`);
  else writeNewFile(path, `${text}\n`);
}

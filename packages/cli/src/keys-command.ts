import { randomBytes } from "node:crypto";
import { readFileSync, writeFileSync } from "node:fs";
import { Command } from "commander";
import { createPlatform, ProblemError } from "tenonsaw";
import { readKeyRing } from "tenonsaw/server";
import { writeNewFile } from "./write-new-file.js";

interface KeysOptions {
  readonly out: string;
  readonly rotate?: true;
  readonly json?: true;
}

export function keysCommand(): Command {
  return new Command("keys")
    .description("Make a sealing key in a file of its own. The key itself is not printed; its thumbprint is.")
    .requiredOption("--out <file>", 'the file; refer to it in the settings: "keys": { "file": … }')
    .option("--rotate", "put a new key in front of those in the file, which go on opening what they sealed")
    .option("--json", "print for scripts")
    .addHelpText(
      "after",
      "\nExample:\n  tenonsaw keys --out ferrywell.keys\n  tenonsaw keys --out ferrywell.keys --rotate",
    )
    .action(run);
}

async function run({ out, rotate, json }: KeysOptions): Promise<void> {
  const before = rotate ? read(out) : undefined;
  const text = [randomBytes(32).toString("base64url"), ...(before === undefined ? [] : [before])].join(",");
  const { currentKeyId, keys } = await readKeyRing({ platform: createPlatform() }, text);
  if (rotate) writeFileSync(out, `${text}\n`, { mode: 0o600 });
  else writeNewFile(out, `${text}\n`);
  const retired = [...keys.keys()].filter((keyId) => keyId !== currentKeyId);
  if (json) console.log(JSON.stringify({ file: out, current: currentKeyId, retired }));
  else {
    console.log(`${out} holds ${keys.size} key${keys.size === 1 ? "" : "s"}, readable by you only.`);
    console.log(`  current  ${currentKeyId}`);
    for (const keyId of retired) console.log(`  retired  ${keyId}`);
  }
}

function read(path: string): string {
  try {
    return readFileSync(path, "utf8").trim();
  } catch (error) {
    throw new ProblemError("cli.file-unwritable", {
      received: `${path}: ${(error as NodeJS.ErrnoException).code ?? "unreadable"}`,
      here: "Leave out --rotate to make the file.",
      cause: error,
    });
  }
}

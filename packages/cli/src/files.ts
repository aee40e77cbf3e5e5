import { existsSync, mkdirSync, readFileSync, renameSync, rmSync, writeFileSync } from "node:fs";
import { randomBytes } from "node:crypto";
import { dirname } from "node:path";
import { ProblemError } from "tenonsaw";

/** What the system says, in the catalogue's words; what it says otherwise is told as it is. */
const reasons = new Map<string, "missing" | "not-allowed" | "folder">([
  ["ENOENT", "missing"],
  ["ENOTDIR", "missing"],
  ["EACCES", "not-allowed"],
  ["EPERM", "not-allowed"],
  ["EROFS", "not-allowed"],
  ["EISDIR", "folder"],
]);

function problemAt(
  kind: "cli.file-unreadable" | "cli.file-unwritable",
  path: string,
  cause: unknown,
): ProblemError {
  const { code = "" } = cause as NodeJS.ErrnoException;
  return new ProblemError(kind, {
    received: `${path === "" ? '""' : path}: ${code || "unreadable"}`,
    because: reasons.get(code),
    cause,
  });
}

/** @throws cli.file-unreadable */
export function readTextFile(path: string): string {
  try {
    return readFileSync(path, "utf8");
  } catch (error) {
    throw problemAt("cli.file-unreadable", path, error);
  }
}

/**
 * Before long work whose result is to be written.
 *
 * @throws cli.file-unwritable
 */
export function requireNewFile(path: string): void {
  if (existsSync(path))
    throw new ProblemError("cli.file-unwritable", { received: `${path}: there already`, because: "there" });
}

/** @throws cli.file-unwritable */
export function makeFolder(path: string): void {
  if (existsSync(path)) return;
  // One by one: where a system lets none be made, as below /proc, Node's own way to make all of them never ends.
  const above = dirname(path);
  if (above !== path) makeFolder(above);
  try {
    mkdirSync(path);
  } catch (error) {
    throw problemAt("cli.file-unwritable", path, error);
  }
}

/**
 * Makes a file that only its owner can read, unless `mode` says otherwise, and never writes over one that is there: what is overwritten may be the
 * only copy of a secret.
 *
 * @returns a function that writes the file's text anew
 * @throws cli.file-unwritable
 */
export function writeNewFile(path: string, text: string, mode = 0o600): (text: string) => void {
  const write = (content: string, flag: "wx" | "w") => {
    try {
      writeFileSync(path, content, { mode, flag });
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === "EEXIST") requireNewFile(path);
      throw problemAt("cli.file-unwritable", path, error);
    }
  };
  write(text, "wx");
  return (content) => {
    write(content, "w");
  };
}

/**
 * Puts a file that only its owner can read in the place of one that is there: at once, whole or not at all.
 *
 * @throws cli.file-unwritable
 */
export function replaceFile(path: string, text: string): void {
  const beside = `${path}.${randomBytes(6).toString("hex")}.new`;
  writeNewFile(beside, text);
  try {
    renameSync(beside, path);
  } catch (error) {
    rmSync(beside, { force: true });
    throw problemAt("cli.file-unwritable", path, error);
  }
}

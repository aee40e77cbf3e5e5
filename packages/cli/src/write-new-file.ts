import { existsSync, writeFileSync } from "node:fs";
import { ProblemError } from "tenonsaw";

/**
 * Before long work whose result is to be written.
 *
 * @throws cli.file-unwritable
 */
export function requireNewFile(path: string): void {
  if (existsSync(path)) throw unwritable(path, "EEXIST");
}

function unwritable(path: string, code: string, cause?: unknown): ProblemError {
  const here = code === "EEXIST" ? "Name another file, or move this one away." : "Check the path.";
  return new ProblemError("cli.file-unwritable", { received: `${path}: ${code}`, here, cause });
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
      throw unwritable(path, (error as NodeJS.ErrnoException).code ?? "", error);
    }
  };
  write(text, "wx");
  return (content) => {
    write(content, "w");
  };
}

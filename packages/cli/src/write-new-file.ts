import { writeFileSync } from "node:fs";
import { ProblemError } from "tenonsaw";

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
      const { code = "" } = error as NodeJS.ErrnoException;
      const here = code === "EEXIST" ? "Name another file, or move this one away." : "Check the path.";
      throw new ProblemError("cli.file-unwritable", { received: `${path}: ${code}`, here, cause: error });
    }
  };
  write(text, "wx");
  return (content) => {
    write(content, "w");
  };
}

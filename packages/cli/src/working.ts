import ora from "ora";
import pc from "picocolors";

/** Shows that the command is waiting for somebody, in a terminal only, while `work` is under way. */
export async function whileWorking<Result>(
  text: string,
  isSilent: boolean,
  work: () => Promise<Result>,
): Promise<Result> {
  const isHidden = isSilent || !process.stderr.isTTY;
  const spinner = ora({ text, isSilent: isHidden, color: pc.isColorSupported ? "cyan" : false }).start();
  try {
    return await work();
  } finally {
    spinner.stop();
  }
}

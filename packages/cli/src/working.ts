import ora from "ora";

/** Shows that the command is waiting for somebody, in a terminal only, while `work` is under way. */
export async function whileWorking<Result>(
  text: string,
  isSilent: boolean,
  work: () => Promise<Result>,
): Promise<Result> {
  const spinner = ora({ text, isSilent: isSilent || !process.stderr.isTTY }).start();
  try {
    return await work();
  } finally {
    spinner.stop();
  }
}

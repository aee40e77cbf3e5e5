import pc from "picocolors";

/** Shows that the command is waiting for somebody, in a terminal only, while `work` is under way. */
export async function whileWorking<Result>(
  text: string,
  isSilent: boolean,
  work: () => Promise<Result>,
): Promise<Result> {
  if (isSilent || !process.stderr.isTTY) return work();
  // Loaded by those who see it.
  const { default: ora } = await import("ora");
  const spinner = ora({ text, color: pc.isColorSupported ? "cyan" : false }).start();
  try {
    return await work();
  } finally {
    spinner.stop();
  }
}

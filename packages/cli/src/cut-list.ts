/** A store returns so many records at a time, the newest first. */
const mostAtOnce = 1000;

/** Says on standard error where a list is cut: what is not in it may be there all the same. */
export function tellIfCut(found: readonly unknown[], what: string): void {
  if (found.length < mostAtOnce) return;
  console.error(
    `Only the newest ${mostAtOnce.toLocaleString("en")} ${what} were searched. Name the person by ID, or the provider, to find older ones.`,
  );
}

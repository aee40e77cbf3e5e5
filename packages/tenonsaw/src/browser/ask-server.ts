/** A browser that has not left the page within so long stays. */
export const patienceMilliseconds = 10_000;

/** What this app's server says. `told`: what its JSON holds; undefined for anything else. */
interface Told {
  readonly answer: Response;
  readonly told: unknown;
}

/**
 * Asks this app's server. A page whose browser begins to leave it has its requests cut off while it still runs: that is no
 * problem of anybody's, so that whoever has left by then hears nothing of it; where the browser stays, it is told a little later.
 */
export async function askServer(path: string, init: RequestInit): Promise<Told> {
  let isLeft = false;
  const leave = () => {
    isLeft = true;
  };
  // While something is asked only: with one for good, some browsers keep no page for their back button.
  window.addEventListener("beforeunload", leave);
  const gone = () =>
    isLeft ? new Promise<void>((resolve) => setTimeout(resolve, patienceMilliseconds)) : undefined;
  try {
    const answer = await fetch(path, { cache: "no-store", ...init });
    const told: unknown = await answer.json().catch(gone);
    return { answer, told };
  } catch (error) {
    await gone();
    throw error;
  } finally {
    window.removeEventListener("beforeunload", leave);
  }
}

/** An instant to the minute, UTC. */
export function time(seconds: number): string {
  return new Date(seconds * 1000).toISOString().replace("T", " ").slice(0, 16);
}

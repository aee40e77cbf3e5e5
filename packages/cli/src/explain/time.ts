const units = [
  ["day", 86_400],
  ["hour", 3600],
  ["minute", 60],
  ["second", 1],
] as const;

/** A distance in time in words: "in 4 minutes", "3 hours ago"; bare: "4 minutes". */
export function describeSpan(seconds: number, form: "directed" | "bare" = "directed"): string {
  const distance = Math.abs(Math.round(seconds));
  const [unit, length] = units.find(([, size]) => distance >= size) ?? ["second", 1];
  const count = Math.floor(distance / length);
  const span = `${count} ${unit}${count === 1 ? "" : "s"}`;
  if (form === "bare") return span;
  return seconds < 0 ? `${span} ago` : `in ${span}`;
}

/** An instant in UTC, with its distance from now. */
export function describeInstant(instant: number, now: number): string {
  const date = new Date(instant * 1000);
  if (Number.isNaN(date.getTime())) return `${instant} (no instant)`;
  return `${date.toISOString().slice(0, 19).replace("T", " ")} UTC, ${describeSpan(instant - now)}`;
}

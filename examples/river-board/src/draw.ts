import { isProblem, type Problem } from "tenonsaw/problem";

export interface TidesToday {
  readonly place: string;
  readonly tides: readonly { readonly at: number; readonly kind: string; readonly heightMetres: number }[];
}

export function draw<Name extends keyof HTMLElementTagNameMap>(
  name: Name,
  ...inside: (string | Node)[]
): HTMLElementTagNameMap[Name] {
  const made = document.createElement(name);
  made.append(...inside);
  return made;
}

export function tidesTable({ tides }: TidesToday): HTMLElement {
  const clock = new Intl.DateTimeFormat("en-GB", { timeStyle: "short" });
  const rows = tides.map(({ at, kind, heightMetres }) =>
    draw(
      "tr",
      draw("td", clock.format(at * 1000)),
      draw("td", kind === "high" ? "High water" : "Low water"),
      draw("td", `${heightMetres.toFixed(1)} m`),
    ),
  );
  return draw("table", draw("tbody", ...rows));
}

/** What went wrong, with cause and remedy: the texts are fetched when there is something to say. */
export async function problemLines(error: unknown): Promise<Node[]> {
  const told = isProblem(error) ? error.problem : (error as { problem?: Problem } | undefined)?.problem;
  if (!told) return [draw("p", String(error))];
  const { withTexts } = await import("tenonsaw/texts");
  const { title, code, received, expected, findings = [], here, atProvider } = withTexts(told);
  const lines: readonly (readonly [string, string | undefined])[] = [
    [title, code],
    ["Received", received],
    ["Expected", expected],
    ...findings.map(({ path, message }) => [path, message] as const),
    ["Change here", here],
    ["Change at the other side", atProvider],
  ];
  return lines.flatMap(([name, text]) =>
    text === undefined ? [] : [draw("p", draw("strong", name), ` ${text}`)],
  );
}

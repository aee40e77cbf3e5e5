import type { Colors } from "picocolors/types.js";
import { fillLines } from "../fill-lines.js";
import type { CheckFinding } from "./finding.js";

/** A summary first, then what was looked at and is worth reading, then what is wrong; good ones only where all are wanted. */
export function renderFindings(
  findings: readonly CheckFinding[],
  columns: number,
  showsAll: boolean,
  colors: Colors,
): string {
  const count = (verdict: CheckFinding["verdict"]) =>
    findings.filter((finding) => finding.verdict === verdict).length;
  const [wrong, untold] = [count("wrong"), count("untold")];
  const summary = [
    wrong === 0
      ? colors.green(untold === 0 ? "Nothing is wrong." : "Nothing is known to be wrong.")
      : colors.red(`${wrong} thing${wrong === 1 ? " is" : "s are"} wrong.`),
    `${findings.length} looked at: ${count("good")} good, ${count("careful")} to be careful with, ${untold} that could not be told, ${wrong} wrong, ${count("skipped")} skipped.`,
    ...(showsAll ? [] : ["--all shows them."]),
  ].join(" ");
  const width = Math.max(50, Math.min(columns, 120));
  const shown = findings.filter(
    ({ verdict }) => showsAll || (verdict !== "good" && verdict !== "skipped" && verdict !== "wrong"),
  );
  const groups = [...new Set(shown.map(({ about }) => about))].map((about) => {
    const lines = shown
      .filter((finding) => finding.about === about)
      .map((finding) => renderLine(finding, width, colors));
    return `${colors.bold(about)}\n${lines.join("\n")}`;
  });
  const urgent = findings
    .filter(({ verdict }) => verdict === "wrong")
    .map((finding) => renderRemedy(finding, width, colors));
  return [wrap(summary, width).join("\n"), ...groups, ...urgent].join("\n\n");
}

function renderRemedy(
  { about, name, looked, remedy = "", side = "here" }: CheckFinding,
  width: number,
  colors: Colors,
): string {
  const [first = "", ...drawing] = looked.split("\n");
  return [
    `${colors.red("wrong")}  ${colors.bold(`${about}, ${name}`)}`,
    ...wrap(first, width - 7).map((line) => `       ${line}`),
    ...drawing.map((line) => `         ${line}`),
    ...wrap(`change ${side}: ${remedy}`, width - 7).map((line) => `       ${line}`),
  ].join("\n");
}

function renderLine({ name, verdict, looked, remedy }: CheckFinding, width: number, colors: Colors): string {
  const marks = {
    good: colors.green("good   "),
    careful: colors.yellow("careful"),
    wrong: colors.red("wrong  "),
    untold: colors.yellow("untold "),
    skipped: colors.dim("skipped"),
  };
  const [first = ""] = looked.split("\n");
  const advised = (verdict === "careful" || verdict === "untold") && remedy !== undefined;
  const indent = 34;
  const [head = "", ...rest] = wrap(first, width - indent);
  const more = [...rest, ...(advised ? wrap(remedy, width - indent).map(colors.dim) : [])];
  return [
    `  ${marks[verdict]}  ${name.padEnd(22)} ${head}`,
    ...more.map((line) => " ".repeat(indent) + line),
  ].join("\n");
}

function wrap(text: string, width: number): readonly string[] {
  return fillLines(text.split(" "), width);
}

import type { Colors } from "picocolors/types.js";
import type { CheckFinding } from "./finding.js";

/** A summary first, what is wrong next, then everything that was looked at. */
export function renderFindings(findings: readonly CheckFinding[], colors: Colors): string {
  const count = (verdict: CheckFinding["verdict"]) =>
    findings.filter((finding) => finding.verdict === verdict).length;
  const wrong = count("wrong");
  const summary = [
    wrong === 0
      ? colors.green("Nothing is wrong.")
      : colors.red(`${wrong} thing${wrong === 1 ? " is" : "s are"} wrong.`),
    `${findings.length} looked at: ${count("good")} good, ${count("careful")} to be careful with, ${wrong} wrong, ${count("skipped")} skipped.`,
  ].join(" ");
  const urgent = findings
    .filter(({ verdict }) => verdict === "wrong")
    .map((finding) => renderRemedy(finding, colors));
  const groups = [...new Set(findings.map(({ about }) => about))].map((about) => {
    const lines = findings
      .filter((finding) => finding.about === about)
      .map((finding) => renderLine(finding, colors));
    return `${colors.bold(about)}\n${lines.join("\n")}`;
  });
  return [summary, ...urgent, ...groups].join("\n\n");
}

function renderRemedy(
  { about, name, looked, remedy = "", side = "here" }: CheckFinding,
  colors: Colors,
): string {
  const [first = "", ...rest] = looked.split("\n");
  return [
    `${colors.red("wrong")}  ${colors.bold(`${about}, ${name}`)}: ${first}`,
    ...rest.map((line) => `         ${line}`),
    `       ${colors.bold(`change ${side}`)}: ${remedy}`,
  ].join("\n");
}

function renderLine({ name, verdict, looked, remedy }: CheckFinding, colors: Colors): string {
  const marks = {
    good: colors.green("good   "),
    careful: colors.yellow("careful"),
    wrong: colors.red("wrong  "),
    skipped: colors.dim("skipped"),
  };
  const [first = ""] = looked.split("\n");
  const advice =
    verdict === "careful" && remedy !== undefined ? `\n${" ".repeat(34)}${colors.dim(remedy)}` : "";
  return `  ${marks[verdict]}  ${name.padEnd(22)} ${first}${advice}`;
}

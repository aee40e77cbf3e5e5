import Table from "cli-table3";
import type { Colors } from "picocolors/types.js";
import { fillLines } from "../fill-lines.js";
import type { Explanation, Finding, Judgement } from "./explanation.js";

/** The explanation for a terminal of so many columns: what it is, what is wrong, then each part. */
export function renderExplanation(explanation: Explanation, columns: number, colors: Colors): string {
  const { kind, summary, parts, findings, judgements } = explanation;
  const sections = [
    `${colors.bold(kind.toUpperCase())}  ${printable(summary)}`,
    verdict(explanation, colors),
    findings.map((finding) => renderFinding(finding, columns, colors)).join("\n"),
    judgements.map((judgement) => renderJudgement(judgement, columns, colors)).join("\n"),
    renderParts(parts, columns),
  ];
  return `${sections.filter((section) => section !== "").join("\n\n")}\n`;
}

function verdict({ kind, findings, judgements }: Explanation, colors: Colors): string {
  const mistakes = findings.filter((finding) => finding.verdict === "wrong").length;
  if (mistakes > 0) return colors.red(`${mistakes} thing${mistakes === 1 ? " is" : "s are"} wrong with it.`);
  if (judgements.length > 0 || kind === "problem" || kind === "error code") return "";
  return colors.green("Nothing wrong can be seen from outside.");
}

function renderFinding(
  { verdict: kind, message, code, drawing }: Finding,
  columns: number,
  colors: Colors,
): string {
  const mark = kind === "wrong" ? colors.red("wrong  ") : colors.yellow("careful");
  const text = hang(mark, 9, `${message}${code === undefined ? "" : ` (${code})`}`, columns);
  const lines = (drawing ?? "").split("\n").filter((line) => line !== "");
  return [text, ...lines.map((line) => " ".repeat(9) + printable(line))].join("\n");
}

function renderJudgement(judgement: Judgement, columns: number, colors: Colors): string {
  const { provider, isAccepted, reasons, notChecked } = judgement;
  const head = `${colors.bold(provider)}: ${isAccepted ? colors.green("would be accepted") : colors.red("would be refused")}`;
  const lines = [
    ...reasons.map((reason) => hang("  because", 11, reason, columns)),
    ...(isAccepted ? notChecked.map((each) => hang("  unseen", 11, each, columns)) : []),
  ];
  return [head, ...lines].join("\n");
}

function renderParts(parts: Explanation["parts"], columns: number): string {
  const names = Math.max(10, ...parts.map(({ name }) => name.length + 2));
  const rest = Math.max(40, Math.min(columns, 140) - names - 4);
  const values = Math.floor(rest * 0.5);
  const meanings = rest - values;
  const table = new Table({
    head: ["part", "value", "meaning"],
    colWidths: [names, values, meanings],
    chars: { mid: "", "left-mid": "", "mid-mid": "", "right-mid": "" },
    style: { head: [], border: [] },
  });
  const cell = (text: string, width: number) => wrap(text, width - 2).join("\n");
  table.push(
    ...parts.map(({ name, value, meaning }) => [name, cell(value, values), cell(meaning, meanings)]),
  );
  return table.toString();
}

/** A mark, then text wrapped and indented behind it. */
function hang(mark: string, indent: number, text: string, columns: number): string {
  const visible = mark.replace(/\u001b\[\d+m/g, "").length;
  const lines = wrap(text, Math.max(30, Math.min(columns, 120) - indent));
  return lines
    .map((line, index) => (index === 0 ? mark + " ".repeat(indent - visible) : " ".repeat(indent)) + line)
    .join("\n");
}

/** Lines of at most `width` characters, broken between words, and inside a word only when it is longer than a line. */
function wrap(text: string, width: number): readonly string[] {
  const words = printable(text).split(" ");
  return fillLines(
    words.flatMap((word) => word.match(new RegExp(`.{1,${width}}`, "gu")) ?? [""]),
    width,
  );
}

/** What is pasted may hold control sequences; a terminal must not obey them. */
function printable(text: string): string {
  return text.replace(/[\u0000-\u001f\u007f-\u009f]/g, "�");
}

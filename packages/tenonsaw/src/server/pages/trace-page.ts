import type { TraceRecord } from "../../trace/index.js";
import { escapeHtml } from "./pages.js";
import { lanes, pairSteps, saySame, stepsOf, type Lane, type Step } from "./trace-steps.js";

const laneNames: Readonly<Record<Lane, string>> = {
  browser: "Browser",
  app: "This app",
  provider: "Provider",
  api: "API",
};

/** The style of the document; its hash stands in the Content-Security-Policy of whoever serves it. */
export const traceStyle = `
:root{color-scheme:light dark;--ink:#1c2430;--paper:#fbfaf7;--line:#c9ccd1;--faint:#5b6470;--well:#1d6b3f;--failed:#a3231f;--failed-paper:#fbe9e6;--box:#fff}
@media (prefers-color-scheme:dark){:root{--ink:#e8e9ec;--paper:#15181d;--line:#434a55;--faint:#a5adb8;--well:#7fd0a0;--failed:#ff9d94;--failed-paper:#3a1d1c;--box:#1d2127}}
*{box-sizing:border-box}
body{margin:0;background:var(--paper);color:var(--ink);font:15px/1.45 system-ui,sans-serif}
.page{display:grid;grid-template-columns:17rem minmax(0,1fr);min-height:100vh}
nav{border-right:1px solid var(--line);padding:1.25rem}
nav h2{font-size:1rem;margin:0 0 .75rem}
nav ol{list-style:none;margin:0;padding:0;display:grid;gap:.25rem}
nav li{display:grid;grid-template-columns:minmax(0,1fr) auto;gap:0 .5rem;padding:.4rem .5rem;border-radius:.4rem}
nav li[aria-current]{background:var(--box);outline:1px solid var(--line)}
a{color:inherit}
nav small,.time{color:var(--faint);font-size:.8rem}
main{padding:1.25rem 1.5rem 3rem;min-width:0}
h1{font-size:1.35rem;margin:0 0 .25rem}
p{margin:.25rem 0 1rem}
.well{color:var(--well)}.failed{color:var(--failed)}
.lanes,.steps li{display:grid;grid-template-columns:4.5rem repeat(4,minmax(0,1fr))}
.lanes{position:sticky;top:0;background:var(--paper);border-bottom:1px solid var(--line);font-weight:600;text-align:center;padding:.5rem 0;z-index:1}
.lanes span:first-child{font-weight:400}
.steps{list-style:none;margin:0;padding:.5rem 0;position:relative;background:linear-gradient(var(--line),var(--line)) calc(4.5rem + (100% - 4.5rem)*.125) 0/1px 100% no-repeat,linear-gradient(var(--line),var(--line)) calc(4.5rem + (100% - 4.5rem)*.375) 0/1px 100% no-repeat,linear-gradient(var(--line),var(--line)) calc(4.5rem + (100% - 4.5rem)*.625) 0/1px 100% no-repeat,linear-gradient(var(--line),var(--line)) calc(4.5rem + (100% - 4.5rem)*.875) 0/1px 100% no-repeat}
.steps li{padding:.35rem 0}
.time{grid-column:1;grid-row:1;font-variant-numeric:tabular-nums;padding-top:.1rem}
.arrow{grid-row:1;height:.9rem;border-bottom:2px solid currentColor;position:relative;align-self:start}
.arrow::after{content:"";position:absolute;bottom:-6px;border:5px solid transparent}
.right::after{right:-2px;border-left-color:currentColor}
.left::after{left:-2px;border-right-color:currentColor}
.span2{margin:0 25%}.span3{margin:0 16.67%}
.from1{grid-column-start:2}.from2{grid-column-start:3}.from3{grid-column-start:4}
.to2{grid-column-end:4}.to3{grid-column-end:5}.to4{grid-column-end:6}
.at{grid-column:3/6;grid-row:1;padding-left:calc(16.67% + .75rem);overflow-wrap:anywhere}
.about{grid-row:2;overflow-wrap:anywhere;background:var(--paper);padding:.2rem .4rem;margin-left:.5rem;width:fit-content;max-width:calc(100% - .5rem)}
.b1{grid-column:2/6}.b2{grid-column:3/6}.b3{grid-column:4/6}
.about b{font-weight:600}
dl{display:grid;grid-template-columns:max-content minmax(0,1fr);gap:.1rem .75rem;margin:.25rem 0 0;font-size:.85rem}
dt{color:var(--faint)}dd{margin:0;overflow-wrap:anywhere;font-family:ui-monospace,monospace}
.steps li.failed .about{background:var(--failed-paper);border:1px solid var(--failed);border-radius:.4rem;padding:.5rem .75rem;color:var(--ink)}
.steps li.failed .about b{color:var(--failed)}
summary{cursor:pointer}
table{border-collapse:collapse;width:100%;table-layout:fixed}
th,td{border:1px solid var(--line);padding:.4rem .6rem;vertical-align:top;text-align:left;overflow-wrap:anywhere;font-size:.9rem}
th:first-child,td:first-child{width:3rem;text-align:center}
tr.differs td{background:var(--failed-paper)}
@media (max-width:700px){.page{display:block}nav{border-right:0;border-bottom:1px solid var(--line)}nav ol{max-height:9rem;overflow:auto}main{padding:1rem .75rem 2rem}.lanes,.steps li{grid-template-columns:2.9rem repeat(4,minmax(0,1fr))}.lanes{font-size:.85rem}.steps{background:none}.at{padding-left:.25rem;grid-column:2/6;grid-row:2}.about{grid-column:1/6;margin-left:0;max-width:100%}.time{font-size:.7rem;white-space:nowrap}table{font-size:.8rem}dl{grid-template-columns:minmax(0,1fr)}}
`;

/** What a page of records is asked to show. */
export interface TraceView {
  readonly records: readonly TraceRecord[];
  /** ID of the one that is shown. */
  readonly show?: string;
  /** ID of another one, to be held against it. */
  readonly beside?: string;
  /** Where it is: absent in a file, which has no other records to lead to. */
  readonly path?: string;
}

/** The records as a page, with nothing from elsewhere in it: the picture of one, or two side by side. */
export function traceDocument({ records, show, beside, path }: TraceView): string {
  const shown = records.find(({ id }) => id === show) ?? records[0];
  const other = records.find(({ id }) => id === beside);
  const content = !shown
    ? "<h1>Nothing has happened yet</h1><p>Sign in, or call an API; then load this page again.</p>"
    : other
      ? renderPair(shown, other)
      : renderRecord(shown);
  const title = shown ? `${shown.title}: what happened` : "What happened";
  return `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>${escapeHtml(title)}</title>
<style>${traceStyle}</style>
</head>
<body>
<div class="${path === undefined ? "" : "page"}">
${path === undefined ? "" : renderList(records, path, shown)}
<main>
${content}
</main>
</div>
</body>
</html>
`;
}

function renderList(records: readonly TraceRecord[], path: string, shown: TraceRecord | undefined): string {
  const items = records.map((record) => {
    const isShown = record.id === shown?.id;
    const links = isShown
      ? `<a href="${path}?show=${escapeHtml(record.id)}&amp;as=json">as data</a>`
      : `<a href="${path}?show=${escapeHtml(shown?.id ?? "")}&amp;beside=${escapeHtml(record.id)}" aria-label="Put ${escapeHtml(record.title)} beside it">beside</a>`;
    return `<li${isShown ? ' aria-current="true"' : ""}><a href="${path}?show=${escapeHtml(record.id)}">${escapeHtml(record.title)}</a><small>${links}</small><small>${clock(record.beganAt)}</small>${renderEnding(record)}</li>`;
  });
  return `<nav aria-label="Lately"><h2>Lately, in this process</h2><ol>${items.join("\n")}</ol></nav>`;
}

/** Codes of problems have a dot. */
const isFailure = (ending: string | undefined) => ending?.includes(".") === true;

function renderEnding({ ending }: TraceRecord): string {
  return ending === undefined
    ? "<small></small>"
    : `<small class="${isFailure(ending) ? "failed" : "well"}">${isFailure(ending) ? "failed" : escapeHtml(ending)}</small>`;
}

function clock(at: number): string {
  return `${new Date(at * 1000).toISOString().slice(11, 19)} UTC`;
}

function renderRecord(record: TraceRecord): string {
  const steps = stepsOf(record);
  const { ending = "" } = record;
  const last = steps.at(-1)?.at ?? record.beganAt;
  const duration = `${(last - record.beganAt).toFixed(last - record.beganAt < 10 ? 2 : 0)} s`;
  const result =
    ending === ""
      ? ""
      : ` <span class="${isFailure(ending) ? "failed" : "well"}">${isFailure(ending) ? `It failed: ${escapeHtml(ending)}` : `It ended: ${escapeHtml(ending)}`}.</span>`;
  return `<h1>${escapeHtml(record.title)}</h1>
<p>Began at ${clock(record.beganAt)}, took ${duration}.${result} Secrets are fingerprints (#…).</p>
<div class="lanes" aria-hidden="true"><span class="time"></span>${lanes.map((lane) => `<span>${laneNames[lane]}</span>`).join("")}</div>
<ol class="steps">
${grouped(steps)
  .map((group) => renderGroup(group, record.beganAt))
  .join("\n")}
</ol>`;
}

/** Checks that passed one after another are one entry: what failed is to be found at a glance. */
function grouped(steps: readonly Step[]): readonly (readonly Step[])[] {
  const groups: Step[][] = [];
  const isPassed = (step: Step | undefined) =>
    step?.key.startsWith("check ") === true && step.state === "well";
  for (const step of steps) {
    const last = groups.at(-1);
    if (last && isPassed(step) && isPassed(last[0])) last.push(step);
    else groups.push([step]);
  }
  return groups;
}

function renderGroup(group: readonly Step[], beganAt: number): string {
  const [first] = group;
  if (!first) return "";
  const time = `<span class="time">+${Math.max(0, Math.round((first.at - beganAt) * 1000))} ms</span>`;
  if (group.length > 1 || (first.key.startsWith("check ") && first.state === "well")) {
    const list = group.map((step) => `${renderText(step)}${renderFacts(step.facts)}`).join("");
    return `<li>${time}<div class="at"><details><summary class="well">✓ ${group.length} check${group.length === 1 ? "" : "s"} passed</summary>${list}</details></div></li>`;
  }
  const body = `${renderText(first)}${renderFacts(first.facts)}`;
  const state = first.state === "failed" ? ' class="failed"' : "";
  if (first.from === first.to)
    return `<li${state}>${time}<div class="at"><div class="about">${first.state === "failed" ? "✗ " : ""}${body}</div></div></li>`;
  const low = Math.min(lanes.indexOf(first.from), lanes.indexOf(first.to)) + 1;
  return `<li${state}>${time}${renderArrow(first)}<div class="about b${low}">${body}</div></li>`;
}

function renderArrow({ from, to }: Step): string {
  const [start, end] = [lanes.indexOf(from) + 1, lanes.indexOf(to) + 1];
  const [low, high] = [Math.min(start, end), Math.max(start, end)];
  const classes = [
    "arrow",
    start < end ? "right" : "left",
    `from${low}`,
    `to${high}`,
    `span${high - low + 1}`,
  ];
  return `<span class="${classes.join(" ")}" role="img" aria-label="${laneNames[from]} to ${laneNames[to]}"></span>`;
}

function renderText({ text }: Step): string {
  return `<b>${escapeHtml(text)}</b>`;
}

function renderFacts(facts: Step["facts"]): string {
  if (facts.length === 0) return "";
  const rows = facts.map(([name, value]) => `<dt>${escapeHtml(name)}</dt><dd>${escapeHtml(value)}</dd>`);
  const list = `<dl>${rows.join("")}</dl>`;
  return facts.length > 6 ? `<details><summary>${facts.length} members</summary>${list}</details>` : list;
}

function renderPair(left: TraceRecord, right: TraceRecord): string {
  const pairs = pairSteps(stepsOf(left), stepsOf(right));
  const rows: string[] = [];
  let [same, differing] = [0, 0];
  const endSame = () => {
    if (same > 0)
      rows.push(
        `<tr><td>=</td><td colspan="2">${same} step${same === 1 ? " is" : "s are"} the same</td></tr>`,
      );
    same = 0;
  };
  for (const [first, second] of pairs) {
    if (saySame(first, second)) {
      same += 1;
      continue;
    }
    endSame();
    differing += 1;
    const cell = (step: Step | undefined) =>
      step
        ? `${step.from === step.to ? "" : `${laneNames[step.from]} → ${laneNames[step.to]}<br>`}${renderText(step)}${renderFacts(step.facts)}`
        : "—";
    rows.push(`<tr class="differs"><td>≠</td><td>${cell(first)}</td><td>${cell(second)}</td></tr>`);
  }
  endSame();
  const head = ({ title, beganAt, ending }: TraceRecord) =>
    `<th>${escapeHtml(title)}<br><small>${clock(beganAt)}${ending === undefined ? "" : `, ${escapeHtml(ending)}`}</small></th>`;
  return `<h1>Two beside each other</h1>
<p>${differing} of ${pairs.length} steps differ; what is new each time, such as fingerprints and durations, does not count.</p>
<table><thead><tr><th><span hidden>same</span></th>${head(left)}${head(right)}</tr></thead><tbody>
${rows.join("\n")}
</tbody></table>`;
}

export { stepsOf, type Lane, type Step } from "./trace-steps.js";

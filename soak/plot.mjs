import { extent, max } from "d3-array";
import { scaleLinear } from "d3-scale";
import { line } from "d3-shape";

const [width, panel, left, right, top] = [960, 220, 70, 190, 40];
const megabyte = 2 ** 20;

/** Latency above, memory below, over the same time: an SVG that also reads in the dark. */
export function plot(samples) {
  const x = scaleLinear()
    .domain(extent(samples, ({ at }) => at / 60))
    .range([left, width - right]);
  const panels = [
    {
      title: "Latency, ms",
      lines: [
        ["sign-in, median", "signInMedian", 1, "c"],
        ["call, 99th percentile", "call99", 1, "b"],
        ["call, median", "callMedian", 1, "a"],
      ],
    },
    {
      title: "Memory of the app, MB",
      lines: [
        ["resident", "rss", megabyte, "c"],
        ["heap in use", "heapUsed", megabyte, "a"],
      ],
    },
  ];
  const drawn = panels.map((each, index) => drawPanel(samples, x, each, top + index * (panel + 70)));
  const height = top + panels.length * (panel + 70) - 10;
  return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 ${width} ${height}" width="${width}" height="${height}" role="img" aria-label="Latency and memory over time">
<style>
  svg { background: #ffffff; font: 14px system-ui, sans-serif; }
  text { fill: #14232b; }
  .soft { fill: #51656c; }
  .grid { stroke: #d5e0df; }
  path { fill: none; stroke-width: 2; }
  .a { stroke: #0b6272; } .b { stroke: #b3541e; } .c { stroke: #7a5ea8; }
  @media (prefers-color-scheme: dark) {
    svg { background: #0f1a1e; }
    text { fill: #e3ecea; }
    .soft { fill: #9db2b7; }
    .grid { stroke: #2a3d43; }
    .a { stroke: #6cc5d3; } .b { stroke: #e79a6b; } .c { stroke: #b9a3e0; }
  }
</style>
${drawn.join("\n")}
</svg>
`;
}

function drawPanel(samples, x, { title, lines }, y0) {
  const highest = max(lines, ([, name, unit]) => max(samples, (each) => (each[name] ?? 0) / unit));
  const y = scaleLinear()
    .domain([0, highest * 1.05])
    .nice()
    .range([y0 + panel, y0]);
  const rows = y
    .ticks(5)
    .map(
      (value) =>
        `<line class="grid" x1="${left}" x2="${width - right}" y1="${y(value)}" y2="${y(value)}"/><text class="soft" x="${left - 10}" y="${y(value) + 5}" text-anchor="end">${value}</text>`,
    );
  const columns = x
    .ticks(8)
    .map(
      (value) =>
        `<text class="soft" x="${x(value)}" y="${y0 + panel + 22}" text-anchor="middle">${value}</text>`,
    );
  const labels = spread(lines.map(([label, name, unit]) => ({ label, at: y(last(samples, name) / unit) })));
  const paths = lines.map(([, name, unit, look]) => {
    const draw = line()
      .x((each) => x(each.at / 60).toFixed(1))
      .y((each) => y(each[name] / unit).toFixed(1));
    return `<path class="${look}" d="${draw(samples.filter((each) => each[name] !== undefined))}"/>`;
  });
  const names = labels.map(
    ({ label, at }, index) =>
      `<line class="${lines[index][3]}" stroke-width="2" x1="${width - right + 10}" x2="${width - right + 26}" y1="${at}" y2="${at}"/><text x="${width - right + 32}" y="${at + 5}">${label}</text>`,
  );
  return `<text x="${left}" y="${y0 - 14}" font-weight="600">${title}</text>
${rows.join("\n")}
${columns.join("\n")}
<text class="soft" x="${width - right + 32}" y="${y0 + panel + 22}">minutes</text>
${paths.join("\n")}
${names.join("\n")}`;
}

function last(samples, name) {
  return samples.findLast((each) => each[name] !== undefined)?.[name] ?? 0;
}

/** Labels beside the ends of their lines, never over one another. */
function spread(labels) {
  const sorted = [...labels].sort((one, other) => one.at - other.at);
  for (let index = 1; index < sorted.length; index += 1)
    sorted[index].at = Math.max(sorted[index].at, sorted[index - 1].at + 20);
  return labels;
}

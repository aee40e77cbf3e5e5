import type { Observation } from "./record.js";

const [width, height, left, bottom] = [640, 220, 44, 28];

/** A line through what was observed, week by week, as an SVG with a text for those who do not see it. */
export function plot(title: string, observations: readonly Observation[]): HTMLElement {
  const points = observations.flatMap(({ effectiveDateTime: at, valueQuantity }) =>
    at !== undefined && valueQuantity?.value !== undefined
      ? [{ at: Date.parse(at), value: valueQuantity.value }]
      : [],
  );
  const unit = observations[0]?.valueQuantity?.unit ?? "";
  const figure = document.createElement("figure");
  const caption = document.createElement("figcaption");
  caption.textContent = `${title}, ${unit}`;
  figure.append(caption, points.length < 2 ? "Too little to draw." : draw(title, unit, points));
  return figure;
}

function draw(title: string, unit: string, points: readonly { at: number; value: number }[]): SVGElement {
  const values = points.map(({ value }) => value);
  const [least, most] = [Math.floor(Math.min(...values) - 1), Math.ceil(Math.max(...values) + 1)];
  const days = points.map(({ at }) => at);
  const [first, last] = [Math.min(...days), Math.max(...days)];
  const x = (at: number) => left + ((at - first) / (last - first)) * (width - left - 16);
  const y = (value: number) => 12 + ((most - value) / (most - least)) * (height - bottom - 12);
  const day = (at: number) => new Date(at).toLocaleDateString("en-GB", { day: "numeric", month: "short" });
  const svg = element("svg", { viewBox: `0 0 ${width} ${height}`, role: "img" });
  svg.append(element("title", {}, `${title}: from ${values[0]} to ${values.at(-1)} ${unit}`));
  for (const value of [least, Math.round((least + most) / 2), most])
    svg.append(
      element("line", { x1: left, x2: width - 16, y1: y(value), y2: y(value), class: "rule" }),
      element("text", { x: left - 8, y: y(value) + 4, class: "end" }, String(value)),
    );
  svg.append(
    element("text", { x: left, y: height - 6 }, day(first)),
    element("text", { x: width - 16, y: height - 6, class: "end" }, day(last)),
    element("polyline", { points: points.map(({ at, value }) => `${x(at)},${y(value)}`).join(" ") }),
    ...points.map(({ at, value }) => element("circle", { cx: x(at), cy: y(value), r: 4 })),
  );
  return svg;
}

function element(name: string, attributes: Readonly<Record<string, string | number>>, text = ""): SVGElement {
  const made = document.createElementNS("http://www.w3.org/2000/svg", name);
  for (const [each, value] of Object.entries(attributes)) made.setAttribute(each, String(value));
  made.textContent = text;
  return made;
}

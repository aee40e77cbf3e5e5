// npm run troubleshooting: plants mistakes, one after the other, lets the library or its command find each, and writes
// docs/guide-troubleshooting.md from what is said, and docs/diagnosis.md with the count. With --check nothing is written.
// Exit code 1 if one is not found.
import { writeFileSync } from "node:fs";
import { areas } from "./mistakes/mistakes.mjs";
import { good, reset, stop, tidy, write } from "./mistakes/places.mjs";

const sections = [];
const grades = [];
let [count, missed] = [0, 0];
for (const [area, mistakes] of Object.entries(areas)) {
  const parts = [];
  for (const { title, settings = good, plant, find, says } of mistakes) {
    reset();
    write(settings);
    await plant?.();
    const { shown, output } = await find();
    // A line may be broken anywhere between words.
    const squeezed = output.replace(/\s+/g, " ");
    const unsaid = Object.entries(says).filter(
      ([, pattern]) => !pattern.test(output) && !pattern.test(squeezed),
    );
    if (unsaid.length > 0) {
      missed += 1;
      console.error(
        `NOT FOUND: ${title}: ${unsaid.map(([name, pattern]) => `${name} ${pattern}`).join(", ")}\n${output}\n`,
      );
    } else console.log(`found: ${title}`);
    count += 1;
    parts.push(`### ${count}. ${title}\n\n\`\`\`\n$ ${shown}\n${tidy(essence(output))}\n\`\`\``);
    grades.push({ area, isFull: "cause" in says && "side" in says });
  }
  sections.push(`## ${area}\n\n${parts.join("\n\n")}`);
}
await stop();
if (!process.argv.includes("--check") && missed === 0) {
  writeFileSync("docs/guide-troubleshooting.md", page());
  writeFileSync("docs/diagnosis.md", table());
}
process.exitCode = missed === 0 ? 0 : 1;

/** Of everything that was looked at, what is wrong. */
function essence(output) {
  const wrong = output.split(/\n\n(?=(?:wrong|untold) {2})/).slice(1);
  return wrong.length > 0 && output.includes("looked at") ? wrong.join("\n\n") : output;
}

function page() {
  return `# ${count} mistakes, and how they show

Each of these costs an afternoon when it is met without help. Here each was made on purpose, with the practice providers,
and this is what was said of it: by \`tenonsaw check\`, \`try\` or \`explain\`, or as a line in the log of an app. Of \`check\`
what is wrong is shown; it also says what could not be told and what to be careful with.

This page is written by \`npm run troubleshooting\`, which makes the mistakes anew and fails if one is not found.

${sections.join("\n\n")}
`;
}

function table() {
  const rows = Object.keys(areas).map((area) => {
    const own = grades.filter((each) => each.area === area);
    const full = own.filter(({ isFull }) => isFull).length;
    return `| ${area} | ${own.length} | ${full} | ${own.length - full} |`;
  });
  const full = grades.filter(({ isFull }) => isFull).length;
  return `# How well mistakes are named

The mistakes of [guide-troubleshooting.md](guide-troubleshooting.md), by area: of each the cause is named, both values where there are
two, and what to change on which side; or the cause alone, where nothing else is known to whoever is asked. Written by
\`npm run troubleshooting\`, which fails where a word of it is missing.

| area | mistakes | cause and what to change | cause alone |
| --- | --- | --- | --- |
${rows.join("\n")}
| all | ${grades.length} | ${full} | ${grades.length - full} |

\`npm run plant\` draws others by a seed, which nobody has chosen: it spoils a member of an app's settings, of what a provider sends, or of
a call of an API, and fails where what is refused is not named by what is said of it. What it lets through, as a value that only the
other side can judge, \`-- --show\` lists.
`;
}

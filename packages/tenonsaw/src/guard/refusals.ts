import type { Problem } from "../problem/index.js";

/** A refusal as the list shows it. */
export interface ListedRefusal {
  readonly at: number;
  readonly during: string;
  readonly status: number;
  readonly problem: Problem;
}

const most = 50;

/** The last refusals, the newest first. */
export function createRefusalList() {
  const all: ListedRefusal[] = [];
  return {
    note(refusal: ListedRefusal): void {
      all.unshift(refusal);
      all.length = Math.min(all.length, most);
    },
    page: (name: string) => renderRefusals(name, all),
  };
}

const style = `
:root { color-scheme: light dark; font: 16px/1.5 system-ui, sans-serif; }
body { margin: 0 auto; max-width: 60rem; padding: 1.5rem 1rem; }
h1 { font-size: 1.5rem; margin: 0 0 .25rem; }
h2 { font-size: 1.05rem; margin: 0; }
li { border-top: 1px solid color-mix(in srgb, currentColor 25%, transparent); padding: .75rem 0; }
ol { list-style: none; margin: 1rem 0; padding: 0; }
dl { display: grid; grid-template-columns: 9rem 1fr; gap: .15rem .75rem; margin: .4rem 0 0; }
dt { opacity: .75; } dd { margin: 0; overflow-wrap: anywhere; }
p { margin: .25rem 0; } code { font-size: .95em; }
@media (max-width: 40rem) { dl { grid-template-columns: 1fr; } dd { margin-bottom: .4rem; } }
`;

export const refusalsPolicy = (hash: string) =>
  `default-src 'none'; style-src 'sha256-${hash}='; base-uri 'none'; form-action 'none'; frame-ancestors 'none'`;
export const refusalsStyle = style;

function renderRefusals(name: string, all: readonly ListedRefusal[]): string {
  const entries = all.map(({ at, during, status, problem }) => {
    const { title, code, expected, received, here, atProvider, section, findings = [] } = problem;
    const rows = [
      ["received", received],
      ["expected", expected],
      ...findings.map(({ path, message }) => ["at", `${path} ${message}`] as const),
      ["change here", here],
      ["at the issuer", atProvider],
      ["standard", section],
    ].filter(([, value]) => value !== undefined);
    const time = new Date(at * 1000).toISOString().slice(11, 19);
    const list = rows
      .map(([term, value]) => `<dt>${escape(term ?? "")}</dt><dd>${escape(value ?? "")}</dd>`)
      .join("");
    return `<li><h2>${escape(title)}</h2><p><code>${status} ${escape(during)}</code> at ${time} UTC, <code>${escape(code)}</code></p><dl>${list}</dl></li>`;
  });
  const body =
    entries.length === 0
      ? "<p>Nobody has been refused since this process began.</p>"
      : `<ol>${entries.join("")}</ol>`;
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Refusals of ${escape(name)}</title><style>${style}</style></head><body><main><h1>Refusals of ${escape(name)}</h1><p>The last ${most} calls that were not let in, the newest first. For developers: this list is there in development only.</p>${body}</main></body></html>`;
}

function escape(text: string): string {
  return text.replace(/[&<>"']/g, (character) => `&#${character.charCodeAt(0)};`);
}

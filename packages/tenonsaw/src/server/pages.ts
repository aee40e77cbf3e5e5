import type { Problem } from "../problem/index.js";

/** What is on a built-in page; all of it is text, none of it markup. */
export interface PageContent {
  readonly title: string;
  readonly paragraphs: readonly string[];
  readonly links: readonly { readonly text: string; readonly href: string }[];
  /** Names and values for a developer. */
  readonly details?: readonly (readonly [string, string])[];
}

/** The style of all built-in pages. Its hash stands in their Content-Security-Policy. */
export const pageStyle = `
:root{color-scheme:light dark;font:17px/1.5 system-ui,sans-serif}
body{margin:0;min-height:100vh;display:grid;place-items:center;background:Canvas;color:CanvasText}
main{width:min(34rem,100% - 3rem);padding:2rem 0}
h1{font-size:1.5rem;line-height:1.25;margin:0 0 1rem}
ul{list-style:none;padding:0;margin:1.5rem 0 0;display:grid;gap:.75rem}
a{display:block;padding:.75rem 1rem;border:1px solid;border-radius:.4rem;color:inherit;text-decoration:none}
a:hover,a:focus-visible{text-decoration:underline;outline:2px solid;outline-offset:2px}
dl{margin:1.5rem 0 0;padding:1rem;border:1px solid GrayText;border-radius:.4rem;font-size:.9rem}
dt{font-weight:600}dd{margin:0 0 .6rem;overflow-wrap:anywhere}
`;

export function renderPage(content: PageContent): string {
  const { title, paragraphs, links, details = [] } = content;
  const list = links.map(
    ({ text, href }) => `<li><a href="${escapeHtml(href)}">${escapeHtml(text)}</a></li>`,
  );
  const table = details.map(([name, value]) => `<dt>${escapeHtml(name)}</dt><dd>${escapeHtml(value)}</dd>`);
  return `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>${escapeHtml(title)}</title>
<style>${pageStyle}</style>
</head>
<body>
<main>
<h1>${escapeHtml(title)}</h1>
${paragraphs.map((text) => `<p>${escapeHtml(text)}</p>`).join("\n")}
${list.length > 0 ? `<ul>${list.join("\n")}</ul>` : ""}
${table.length > 0 ? `<dl>${table.join("\n")}</dl>` : ""}
</main>
</body>
</html>
`;
}

/**
 * Sends on, from this app's own origin, what a provider's page has posted here: a browser keeps the app's cookies back
 * from a post that comes from another site. Without script there is a button.
 */
export function repostPage(action: string, fields: readonly (readonly [string, string])[]): string {
  const inputs = fields.map(
    ([name, value]) => `<input type="hidden" name="${escapeHtml(name)}" value="${escapeHtml(value)}">`,
  );
  return passingPage(
    `<form method="post" action="${escapeHtml(action)}">${inputs.join("")}<button>Continue</button></form>`,
    repostScript,
  );
}

/** Sends what came behind the # of the address, which a browser tells no server, and takes it out of the address. */
export function fragmentPage(action: string): string {
  return passingPage(
    `<form method="post" action="${escapeHtml(action)}"><input type="hidden" name="fragment"></form>
<noscript><p>Signing in with this provider needs JavaScript.</p></noscript>`,
    fragmentScript,
  );
}

export const repostScript = "document.forms[0].submit()";
export const fragmentScript =
  "document.forms[0].fragment.value=location.hash.slice(1);history.replaceState(null,'',location.pathname);document.forms[0].submit()";

function passingPage(form: string, script: string): string {
  return `<!doctype html>
<html lang="en">
<head><meta charset="utf-8"><title>Signing in</title><style>${pageStyle}</style></head>
<body><main><h1>Signing in</h1>
${form}
</main><script>${script}</script></body>
</html>
`;
}

export function chooserPage(
  providers: readonly { readonly title: string; readonly href: string }[],
): PageContent {
  return {
    title: "Sign in",
    paragraphs: ["Choose where you have an account."],
    links: providers.map(({ title, href }) => ({ text: `Sign in with ${title}`, href })),
  };
}

export function declinedPage(returnTo: string): PageContent {
  return {
    title: "You changed your mind",
    paragraphs: ["You are not signed in, and nothing was shared."],
    links: [{ text: "Go back", href: returnTo }],
  };
}

/** A visitor learns that it did not work and what they can do; a developer, in development, learns why. */
export function problemPage(problem: Problem, retry: string, isDevelopment: boolean): PageContent {
  return {
    title: "That did not work",
    paragraphs: [
      `Your sign-in or request could not be completed. You can try again. (${problem.code})`,
      ...(isDevelopment ? ["The rest of this page is shown in development only."] : []),
    ],
    links: [{ text: "Try again", href: retry }],
    details: isDevelopment ? problemDetails(problem) : [],
  };
}

function problemDetails(problem: Problem): readonly (readonly [string, string])[] {
  const details: readonly (readonly [string, string | undefined])[] = [
    ["What happened", problem.title],
    ["Expected", problem.expected],
    ["Received", problem.received],
    ...(problem.findings ?? []).map(({ path, message }) => [path, message] as const),
    ["Change here", problem.here],
    ["Change at the provider", problem.atProvider],
    ["Standard", problem.section],
  ];
  return details.filter((row): row is readonly [string, string] => row[1] !== undefined);
}

/** Text made safe between tags and in quoted attributes. */
export function escapeHtml(text: string): string {
  const entities: Readonly<Record<string, string>> = {
    "&": "&amp;",
    "<": "&lt;",
    ">": "&gt;",
    '"': "&quot;",
    "'": "&#39;",
  };
  return text.replace(/[&<>"']/g, (character) => entities[character] ?? character);
}

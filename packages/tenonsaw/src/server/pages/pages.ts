import type { Problem } from "../../problem/index.js";
import type { Wording } from "./texts.js";

/** What is on a built-in page; all of it is text, none of it markup. */
export interface PageContent {
  /** BCP 47. */
  readonly language: string;
  readonly title: string;
  readonly paragraphs: readonly string[];
  readonly links: readonly { readonly text: string; readonly href: string }[];
  /** What a button sends, above the links. */
  readonly form?: PageForm;
  /** Names and values for a developer. */
  readonly details?: readonly (readonly [string, string])[];
}

export interface PageForm {
  readonly action: string;
  readonly fields: readonly (readonly [string, string])[];
  readonly button: string;
}

/** What the settings may change of the look: CSS values by the name of the variable. */
export type Theme = Readonly<
  Partial<Record<"surface" | "ink" | "line" | "accent" | "corner" | "font", string | undefined>>
>;

/** The style of all built-in pages. Its hash stands in their Content-Security-Policy. */
export function pageStyle(theme: Theme): string {
  const values: Theme = {
    surface: "Canvas",
    ink: "CanvasText",
    line: "GrayText",
    accent: "var(--ink)",
    corner: ".4rem",
    font: "system-ui,sans-serif",
    ...Object.fromEntries(Object.entries(theme).filter(([, value]) => value !== undefined)),
  };
  const variables = Object.entries(values).map(([name, value]) => `--${name}:${value ?? ""}`);
  return `
:root{color-scheme:light dark;${variables.join(";")}}
body{margin:0;min-height:100vh;display:grid;place-items:center;background:var(--surface);color:var(--ink);font:17px/1.5 var(--font)}
main{width:min(34rem,100% - 3rem);padding:2rem 0}
h1{font-size:1.5rem;line-height:1.25;margin:0 0 1rem}
ul{list-style:none;padding:0;margin:1.5rem 0 0;display:grid;gap:.75rem}
a,button{display:block;width:100%;box-sizing:border-box;padding:.75rem 1rem;border:1px solid var(--accent);border-radius:var(--corner);background:none;color:inherit;font:inherit;text-align:start;text-decoration:none}
a:hover,a:focus-visible,button:hover,button:focus-visible{text-decoration:underline;outline:2px solid var(--accent);outline-offset:2px}
dl{margin:1.5rem 0 0;padding:1rem;border:1px solid var(--line);border-radius:var(--corner);font-size:.9rem}
dt{font-weight:600}dd{margin:0 0 .6rem;overflow-wrap:anywhere;white-space:pre-wrap}
`;
}

export function renderPage(content: PageContent, style: string): string {
  return document(content, style, renderBody(content));
}

function renderForm({ action, fields, button }: PageForm): string {
  const inputs = fields.map(
    ([name, value]) => `<input type="hidden" name="${escapeHtml(name)}" value="${escapeHtml(value)}">`,
  );
  return `<form method="post" action="${escapeHtml(action)}">${inputs.join("")}<button>${escapeHtml(button)}</button></form>`;
}

function renderBody({ title, paragraphs, links, form, details = [] }: PageContent): string {
  const list = links.map(
    ({ text, href }) => `<li><a href="${escapeHtml(href)}">${escapeHtml(text)}</a></li>`,
  );
  const table = details.map(([name, value]) => `<dt>${escapeHtml(name)}</dt><dd>${escapeHtml(value)}</dd>`);
  return `<h1>${escapeHtml(title)}</h1>
${paragraphs.map((text) => `<p>${escapeHtml(text)}</p>`).join("\n")}
${form ? renderForm(form) : ""}
${list.length > 0 ? `<ul>${list.join("\n")}</ul>` : ""}
${table.length > 0 ? `<dl>${table.join("\n")}</dl>` : ""}`;
}

function document(
  { language, title }: Pick<PageContent, "language" | "title">,
  style: string,
  body: string,
  after = "",
): string {
  return `<!doctype html>
<html lang="${escapeHtml(language)}">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>${escapeHtml(title)}</title>
<style>${style}</style>
</head>
<body>
<main>
${body}
</main>
${after}</body>
</html>
`;
}

/** A page that does something by itself: what it says to who has no script, and the script. */
export type PassingPage = (style: string) => string;

/**
 * Sends on, from this app's own origin, what a provider's page has posted here: a browser keeps the app's cookies back
 * from a post that comes from another site. Without script there is a button.
 */
export function repostPage(
  wording: Wording,
  action: string,
  fields: readonly (readonly [string, string])[],
  title = wording.signingIn,
): PassingPage {
  const form = renderForm({ action, fields, button: wording.goOn });
  return passingPage(wording, form, repostScript, title);
}

/** Sends what came behind the # of the address, which a browser tells no server, and takes it out of the address. */
export function fragmentPage(wording: Wording, action: string): PassingPage {
  return passingPage(
    wording,
    `<form method="post" action="${escapeHtml(action)}"><input type="hidden" name="fragment"></form>
<noscript><p>${escapeHtml(wording.needsScript)}</p></noscript>`,
    fragmentScript,
  );
}

/** How a sign-in ended, as the window it was begun from is told. */
export interface Ending {
  readonly kind: "granted" | "declined" | "failed";
  readonly returnTo: string;
  /** The problem's code. */
  readonly problem?: string;
}

/** A broadcast channel of this origin, and the name by which a page knows the window that it opened. */
export interface WindowChannel {
  readonly name: string;
  readonly id: string;
}

/**
 * Ends a sign-in in a window of its own: tells the page that opened it, at this app's origin and no other, and closes.
 * Where that page is gone, this window goes on in its place. A failure stays to be read. A provider's page can cut the window
 * off from its opener (Cross-Origin-Opener-Policy): a page that named the window hears of it all the same.
 */
export function popUpPage(ending: Ending, content: PageContent, channel?: WindowChannel): PassingPage {
  const value = escapeHtml(JSON.stringify({ ...ending, channel }));
  const data = `<data id="ending" value="${value}" hidden></data>`;
  return (style) => document(content, style, `${renderBody(content)}\n${data}`, scriptTag(popUpScript));
}

/**
 * In a frame that keeps no cookie: the frame keeps the key itself, and goes on to the host. Where it cannot keep that either, the
 * app is to be opened in a window of its own; the host has heard nothing of this launch yet.
 */
export function framePage(
  wording: Wording,
  { key, goTo, aside }: { readonly key: string; readonly goTo: string; readonly aside: string },
): PassingPage {
  const value = escapeHtml(JSON.stringify({ key, goTo }));
  return passingPage(
    wording,
    `<data id="launch" value="${value}" hidden></data>
<p id="aside" hidden><a href="${escapeHtml(aside)}" target="_blank" rel="noopener">${escapeHtml(wording.ownWindow)}</a></p>
<noscript><p>${escapeHtml(wording.needsScript)}</p></noscript>`,
    frameScript,
  );
}

/** The frame brings what the host has answered, with the key that it has kept. */
export function handOverPage(
  wording: Wording,
  { host, action }: { readonly host: string; readonly action: string },
): PassingPage {
  return passingPage(
    wording,
    `<form method="post" action="${escapeHtml(action)}"><input type="hidden" name="host" value="${escapeHtml(host)}"><input type="hidden" name="answer"><input type="hidden" name="key"></form>
<noscript><p>${escapeHtml(wording.needsScript)}</p></noscript>`,
    handOverScript,
  );
}

/**
 * Where a frame keeps the key of its launch. All frames of a tab share what it stores; a frame's own name is gone with it, and no other
 * frame has it.
 */
const frameItem = "'tenonsaw-launch '+name";
export const frameScript = `const{key,goTo}=JSON.parse(document.getElementById('launch').value);try{name=name||'frame-'+crypto.getRandomValues(new Uint32Array(4)).join('-');sessionStorage.setItem(${frameItem},key);location.replace(goTo)}catch{document.getElementById('aside').hidden=false}`;
export const handOverScript = `const form=document.forms[0];let key='';try{key=sessionStorage.getItem(${frameItem})||''}catch{}form.answer.value=location.search.slice(1);form.key.value=key;history.replaceState(null,'',location.pathname);form.submit()`;

export const repostScript = "document.forms[0].submit()";
export const fragmentScript =
  "document.forms[0].fragment.value=location.hash.slice(1);history.replaceState(null,'',location.pathname);document.forms[0].submit()";
export const popUpScript = [
  "const{channel,...end}=JSON.parse(document.getElementById('ending').value),done=()=>{if(end.kind!=='failed')close()}",
  // Whoever hears says so; then this window has nothing more to do.
  "if(channel){const said=new BroadcastChannel(channel.name);said.onmessage=({data})=>{if(data&&data.heard===channel.id)done()};said.postMessage({id:channel.id,end})}",
  "if(opener)opener.postMessage({from:'tenonsaw',...end},location.origin)",
  "setTimeout(()=>{if(opener)done();else if(end.kind==='granted')location.replace(end.returnTo)},channel?500:0)",
].join(";");

function scriptTag(script: string): string {
  return `<script>${script}</script>`;
}

function passingPage(
  { language, signingIn }: Wording,
  form: string,
  script: string,
  title = signingIn,
): PassingPage {
  return (style) =>
    document({ language, title }, style, `<h1>${escapeHtml(title)}</h1>\n${form}`, scriptTag(script));
}

export function chooserPage(
  wording: Wording,
  providers: readonly { readonly title: string; readonly href: string }[],
): PageContent {
  return {
    language: wording.language,
    title: wording.signIn,
    paragraphs: [wording.choose],
    links: providers.map(({ title, href }) => ({
      text: wording.signInWith.replaceAll("{provider}", () => title),
      href,
    })),
  };
}

/** For a window of its own that outlived the page it was opened from. */
export function signedInPage(wording: Wording, returnTo: string, isConnecting: boolean): PageContent {
  return {
    language: wording.language,
    title: isConnecting ? wording.connected : wording.signedIn,
    paragraphs: [wording.closeWindow],
    links: [{ text: wording.goOn, href: returnTo }],
  };
}

/** Of the page before an account is connected, and of the one on the way back. */
export function connectTitle({ connect }: Wording, provider: string): string {
  return connect.replaceAll("{provider}", () => provider);
}

/** Before an account is connected: what that means, and the button. */
export function connectPage(
  wording: Wording,
  provider: string,
  returnTo: string,
  form: Pick<PageForm, "action" | "fields">,
): PageContent {
  const title = connectTitle(wording, provider);
  return {
    language: wording.language,
    title,
    paragraphs: [wording.connectAbout.replaceAll("{provider}", () => provider)],
    form: { ...form, button: title },
    links: [{ text: wording.goBack, href: returnTo }],
  };
}

/** `said`: what the provider said, for a developer. */
export function declinedPage(
  wording: Wording,
  returnTo: string,
  { isConnecting, said }: { readonly isConnecting: boolean; readonly said?: string | undefined },
): PageContent {
  return {
    language: wording.language,
    title: isConnecting ? wording.notConnected : wording.declined,
    paragraphs: [wording.nothingShared],
    links: [{ text: wording.goBack, href: returnTo }],
    details: said === undefined ? [] : [["The provider said", said]],
  };
}

/** Whoever sent something after their session had ended. */
export function notSignedInPage(wording: Wording, href: string): PageContent {
  return {
    language: wording.language,
    title: wording.declined,
    paragraphs: [wording.sessionEnded],
    links: [{ text: wording.signIn, href }],
  };
}

/** What the page of a problem has for a developer beside the problem. */
export interface ForDevelopers {
  /** Of an error of the app's own. */
  readonly stack?: string | undefined;
  /** Where to see what happened, step by step. */
  readonly trace?: string | undefined;
}

/** A visitor learns that it did not work and what they can do; a developer, in development, learns why. */
export function problemPage(
  wording: Wording,
  problem: Problem,
  { retry, development }: { readonly retry: string; readonly development?: ForDevelopers | undefined },
): PageContent {
  const { stack, trace } = development ?? {};
  return {
    language: wording.language,
    title: wording.failed,
    paragraphs: [
      `${wording.mayTryAgain} (${problem.code})`,
      ...(development ? ["The rest of this page is shown in development only."] : []),
    ],
    links: [
      { text: wording.tryAgain, href: retry },
      ...(trace === undefined ? [] : [{ text: "See what happened, step by step", href: trace }]),
    ],
    details: [
      ...(development ? problemDetails(problem) : []),
      ...(stack === undefined ? [] : [["The error", stack] as const]),
    ],
  };
}

function problemDetails(problem: Problem): readonly (readonly [string, string])[] {
  const details: readonly (readonly [string, string | undefined])[] = [
    ["What happened", problem.title],
    ["Expected", problem.expected],
    ["Received", problem.received],
    ...(problem.findings ?? []).map(
      ({ path, message, place }) =>
        [path, place === undefined ? message : `${message}, at ${place}`] as const,
    ),
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

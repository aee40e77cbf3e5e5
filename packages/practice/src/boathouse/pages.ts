import { html, raw } from "hono/html";
import type { HtmlEscapedString } from "hono/utils/html";
import { rehearsals, type Rehearsal } from "../rehearsals.js";

type Html = HtmlEscapedString | Promise<HtmlEscapedString>;

const style = raw(`
:root{color-scheme:light dark;--ink:#22303a;--paper:#eef2f1;--card:#fff;--line:#c4cfcd;--soft:#586a70;--mark:#7a3b52;--on-mark:#fff}
@media (prefers-color-scheme:dark){:root{--ink:#e4e8e7;--paper:#151b1d;--card:#1e2629;--line:#3a474b;--soft:#a2b0b4;--mark:#e2a7bb;--on-mark:#2a1019}}
*{box-sizing:border-box}
body{margin:0;background:var(--paper);color:var(--ink);font:15px/1.45 system-ui,sans-serif;min-height:100vh;display:flex;flex-direction:column}
.notice{background:var(--ink);color:var(--paper);text-align:center;padding:.3rem 1rem;font-size:.85rem}
.bar{display:flex;gap:1rem;align-items:center;padding:.6rem 1.25rem;border-bottom:1px solid var(--line);background:var(--card);flex-wrap:wrap}
.brand{font-weight:700;color:var(--mark)}
nav{display:flex;gap:.25rem;flex-wrap:wrap}
nav a,button,select{font:inherit;color:inherit;border:1px solid var(--line);border-radius:.35rem;padding:.3rem .7rem;text-decoration:none;background:transparent;cursor:pointer}
nav a[aria-current]{background:var(--mark);color:var(--on-mark);border-color:var(--mark)}
a:focus-visible,button:focus-visible,select:focus-visible,summary:focus-visible{outline:2px solid var(--mark);outline-offset:2px}
.record{padding:.5rem 1.25rem;background:var(--mark);color:var(--on-mark);font-weight:600}
.set{display:flex;gap:1rem;align-items:end;padding:.5rem 1.25rem;flex-wrap:wrap;font-size:.9rem}
.set label{display:grid;gap:.15rem;color:var(--soft)}
.set select{max-width:16rem;color:var(--ink)}
iframe{flex:1;min-height:30rem;margin:0 1.25rem 1.25rem;border:1px solid var(--line);border-radius:.5rem;background:var(--card)}
main.wide{flex:1;display:flex;flex-direction:column}
.unseen{position:absolute;clip-path:inset(50%)}
main:not(.wide){width:min(30rem,100% - 2rem);margin:2rem auto;background:var(--card);border:1px solid var(--line);border-radius:.5rem;padding:1.5rem}
h1{font-size:1.25rem;margin:0 0 .5rem}
.soft{color:var(--soft);font-size:.9rem}
main:not(.wide) button{display:block;width:100%;text-align:left;margin:.5rem 0;padding:.6rem .9rem}
`);

function document(title: string, content: Html, bar: Html | string = ""): Html {
  return html`<!doctype html>
    <html lang="en">
      <head>
        <meta charset="utf-8" />
        <meta name="viewport" content="width=device-width, initial-scale=1" />
        <title>${title} – Boathouse Clinic (practice)</title>
        <style>
          ${style}
        </style>
      </head>
      <body>
        <header>
          <div class="notice" role="note">Practice host: for trying things out only. Nobody here is real.</div>
          ${bar}
        </header>
        <main${bar === "" ? "" : raw(' class="wide"')}>${content}</main>
      </body>
    </html>`;
}

/** One question, and a button for each answer. */
export function pickPage(
  action: string,
  id: string,
  question: string,
  about: string,
  choices: readonly { readonly value: string; readonly text: string; readonly more?: string }[],
  isFirst = false,
): Html {
  return document(
    question,
    html`<p class="brand">Boathouse Clinic</p>
      <h1>${question}</h1>
      <p class="soft">${about}</p>
      <form method="post" action="${action}">
        <input type="hidden" name="request" value="${id}" />
        ${choices.map(
          ({ value, text, more }) =>
            html`<button name="choice" value="${value}">
              ${text}${more === undefined ? "" : html`<br /><span class="soft">${more}</span>`}
            </button>`,
        )}
        ${
          isFirst
            ? html`<details>
                <summary>Rehearse a fault</summary>
                ${faultSelect(undefined)}
              </details>`
            : ""
        }
      </form>`,
  );
}

function faultSelect(chosen: string | undefined): Html {
  const offered = (rehearsals as readonly Rehearsal[]).filter(
    // An app reads the configuration once: what is wrong with that is played for everybody, before it does.
    ({ asks, name }) => asks === "launch" && !name.startsWith("configuration-"),
  );
  return html`<select name="rehearsal" aria-label="What should go wrong">
    <option value="">Nothing goes wrong</option>
    ${offered.map(
      ({ name, about }) =>
        html`<option value="${name}" ${name === chosen ? raw("selected") : ""}>${name}: ${about}</option>`,
    )}
  </select>`;
}

export interface WardChoice {
  readonly patient: string;
  readonly app: string;
  readonly banner: string;
  readonly style: string;
  readonly rehearsal: string;
}

/** The ward: whose record is open, and an app beside it. */
export function wardPage(
  house: string,
  chosen: WardChoice,
  patients: readonly { readonly id: string; readonly name: string; readonly birthDate: string }[],
  apps: readonly { readonly id: string; readonly title: string }[],
  opened: string | undefined,
): Html {
  const at = (change: Partial<WardChoice>) =>
    `/${house}/ward?${new URLSearchParams({ ...chosen, ...change }).toString()}`;
  const patient = patients.find(({ id }) => id === chosen.patient);
  const select = (name: keyof WardChoice, label: string, options: readonly (readonly [string, string])[]) =>
    html`<label
      >${label}
      <select name="${name}">
        ${options.map(
          ([value, text]) =>
            html`<option value="${value}" ${value === chosen[name] ? raw("selected") : ""}>${text}</option>`,
        )}
      </select></label
    >`;
  return document(
    "Ward",
    html`<h1 class="unseen">Ward</h1>
      ${
        chosen.banner === "host"
          ? html`<div class="record" role="status">
              ${patient?.name ?? ""}, born ${patient?.birthDate ?? ""}
            </div>`
          : ""
      }
      <form class="set" method="get" action="/${house}/ward">
        <input type="hidden" name="patient" value="${chosen.patient}" />
        ${select(
          "app",
          "App",
          apps.map(({ id, title }) => [id, title]),
        )}
        ${select("banner", "The patient is named by", [
          ["host", "this ward"],
          ["app", "the app"],
        ])}
        ${select("style", "Style", [
          ["calm", "calm"],
          ["night", "night"],
          ["none", "the app's own"],
        ])}
        <label>Rehearse ${faultSelect(chosen.rehearsal)}</label>
        <button>Open the app</button>
        <button formaction="/${house}/ward/tab" formtarget="_blank">Open in a tab</button>
      </form>
      ${
        opened === undefined
          ? html`<p class="set">No app is registered with a launch URL.</p>`
          : html`<iframe title="App" src="${opened}"></iframe>`
      }`,
    html`<div class="bar">
      <span class="brand">Boathouse Clinic</span>
      <nav aria-label="Patients">
        ${patients.map(
          ({ id, name }) =>
            html`<a href="${at({ patient: id })}" ${id === chosen.patient ? raw('aria-current="page"') : ""}
              >${name}</a
            >`,
        )}
      </nav>
    </div>`,
  );
}

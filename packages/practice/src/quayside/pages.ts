import { html, raw } from "hono/html";
import type { HtmlEscapedString } from "hono/utils/html";
import type { Person } from "../people.js";
import { rehearsals, type Rehearsal } from "../rehearsals.js";
import { scopes } from "./metadata.js";

type Html = HtmlEscapedString | Promise<HtmlEscapedString>;

const style = raw(`
:root{color-scheme:light dark;--ink:#1d2b33;--paper:#f3f1ec;--card:#fffefb;--line:#c9c4b8;--deep:#1f5a5e;--on-deep:#fff;--soft:#5b6670}
@media (prefers-color-scheme:dark){:root{--ink:#e6e4de;--paper:#161b1e;--card:#20272b;--line:#3d474d;--deep:#7fc4c4;--on-deep:#10191b;--soft:#a3adb3}}
*{box-sizing:border-box}
body{margin:0;background:var(--paper);color:var(--ink);font:16px/1.5 system-ui,sans-serif}
.notice{background:var(--ink);color:var(--paper);text-align:center;padding:.5rem 1rem;font-size:.9rem}
main{width:min(30rem,100% - 2rem);margin:3rem auto;background:var(--card);border:1px solid var(--line);border-radius:.75rem;padding:2rem}
.brand{font-weight:700;color:var(--deep);letter-spacing:.02em;margin:0 0 1.25rem}
h1{font-size:1.4rem;line-height:1.3;margin:0 0 .5rem}
p{margin:.25rem 0 1rem}
.soft{color:var(--soft);font-size:.9rem}
form{margin:0}
.people{display:grid;gap:.6rem;margin:1.25rem 0}
button{font:inherit;cursor:pointer;border-radius:.5rem;padding:.7rem 1rem;border:1px solid var(--line);background:transparent;color:inherit;text-align:left}
button:hover,button:focus-visible,select:focus-visible,summary:focus-visible{outline:2px solid var(--deep);outline-offset:2px}
.choices{display:flex;gap:.75rem;margin-top:1.5rem}
.choices button{flex:1;text-align:center}
.main{background:var(--deep);color:var(--on-deep);border-color:var(--deep);font-weight:600}
ul{padding-left:1.2rem;margin:1rem 0}
li{margin:.3rem 0}
code{font-size:.85em;color:var(--soft)}
details{margin-top:1.5rem;border-top:1px solid var(--line);padding-top:1rem}
input:not([type]){font:inherit;font-size:1.3rem;letter-spacing:.15em;text-transform:uppercase;width:100%;padding:.6rem;border-radius:.4rem;border:1px solid var(--line);background:var(--card);color:inherit}
select{font:inherit;width:100%;padding:.5rem;margin-top:.5rem;border-radius:.4rem;border:1px solid var(--line);background:var(--card);color:inherit}
`);

function layout(brand: string, title: string, content: Html): Html {
  return html`<!doctype html>
    <html lang="en">
      <head>
        <meta charset="utf-8" />
        <meta name="viewport" content="width=device-width, initial-scale=1" />
        <title>${title} – ${brand} (practice)</title>
        <style>
          ${style}
        </style>
      </head>
      <body>
        <div class="notice" role="note">
          Practice provider: for trying things out only. Nobody here is real.
        </div>
        <main>
          <p class="brand">${brand}</p>
          ${content}
        </main>
      </body>
    </html>`;
}

export function choosePersonPage(
  brand: string,
  requestId: string,
  client: string,
  people: readonly Person[],
  protocol: "oauth1" | "oauth2" = "oauth2",
): Html {
  return layout(
    brand,
    "Sign in",
    html`<h1>Sign in to go on to ${client}</h1>
      <p class="soft">Pick a made-up member. There are no passwords here.</p>
      <form method="post" action="/authorize/person">
        <input type="hidden" name="request" value="${requestId}" />
        <div class="people">
          ${people.map(
            (person) =>
              html`<button name="person" value="${person.id}">
                ${person.name}<br /><span class="soft">${describe(person)}</span>
              </button>`,
          )}
        </div>
        ${faultChooser(protocol)}
      </form>`,
  );
}

/** What may go wrong on request, by where it shows. */
function faultChooser(protocol: "oauth1" | "oauth2"): Html {
  const offered = (rehearsals as readonly Rehearsal[]).filter(
    ({ asks }) => asks !== "launch" && (asks === "oauth1") === (protocol === "oauth1"),
  );
  const placeOf = ({ ending }: Rehearsal) => places[ending.split(".")[0] ?? ""] ?? "Taken, though odd";
  return html`<details>
    <summary>Rehearse a fault</summary>
    <label>
      <span class="soft">What should go wrong after this sign-in?</span>
      <select name="rehearsal">
        <option value="">Nothing</option>
        ${[...new Set(offered.map(placeOf))]
          .sort()
          .map(
            (place) =>
              html`<optgroup label="${place}">
                ${offered
                  .filter((each) => placeOf(each) === place)
                  .map(({ name, about }) => html`<option value="${name}">${name}: ${about}</option>`)}
              </optgroup>`,
          )}
      </select>
    </label>
  </details>`;
}

/** Where a fault shows, by the station that refuses it. */
const places: Readonly<Record<string, string>> = {
  attempt: "Sending the browser away",
  grant: "The token endpoint",
  identity: "Who it is: ID token and userinfo",
  jose: "Signatures and encodings",
  platform: "The network",
  provider: "What the provider publishes",
  response: "The way back",
};

export function consentPage(
  brand: string,
  requestId: string,
  client: string,
  person: Person,
  asked: readonly string[],
  /** Whether this page can be left for another person, and a fault be chosen on it. */
  isChangeable = false,
): Html {
  return layout(
    brand,
    "Consent",
    html`<h1>${client} would like to</h1>
      <ul>
        ${asked.map((scope) => html`<li>${scopes[scope] ?? "Use"} <code>${scope}</code></li>`)}
      </ul>
      <p class="soft">You are signed in as ${person.name}.</p>
      <form method="post" action="/authorize/decision">
        <input type="hidden" name="request" value="${requestId}" />
        <div class="choices">
          <button name="decision" value="decline">No, not now</button>
          <button class="main" name="decision" value="allow">Yes, allow</button>
        </div>
        ${
          isChangeable
            ? html`<div class="choices">
                  <button name="decision" value="somebody-else">Not ${person.name}? Be somebody else</button>
                </div>
                ${faultChooser("oauth2")}`
            : ""
        }
      </form>`,
  );
}

/** Consent for one company of several. */
export function companyPage(
  brand: string,
  requestId: string,
  client: string,
  asked: readonly (readonly [scope: string, words: string])[],
  companies: readonly { readonly id: string; readonly title: string }[],
): Html {
  return layout(
    brand,
    "Choose a company",
    html`<h1>${client} would like to</h1>
      <ul>
        ${asked.map(([scope, words]) => html`<li>${words} <code>${scope}</code></li>`)}
      </ul>
      <p class="soft">Choose the company that this is for.</p>
      <form method="post" action="/authorize/decision">
        <input type="hidden" name="request" value="${requestId}" />
        <div class="people">
          ${companies.map(({ id, title }) => html`<button name="decision" value="${id}">${title}</button>`)}
        </div>
        <div class="choices"><button name="decision" value="decline">No, not now</button></div>
      </form>`,
  );
}

export function enterCodePage(brand: string, userCode: string, complaint?: string): Html {
  return layout(
    brand,
    "Enter the code",
    html`<h1>Enter the code from your device</h1>
      <p class="soft">Only if you have just begun this yourself, on a device in front of you.</p>
      ${complaint === undefined ? "" : html`<p role="alert">${complaint}</p>`}
      <form method="post" action="/device">
        <input name="user_code" value="${userCode}" aria-label="Code" autocomplete="off" required />
        <div class="choices"><button class="main">Go on</button></div>
      </form>`,
  );
}

export function messagePage(brand: string, title: string, text: string, explanation?: string): Html {
  return layout(
    brand,
    title,
    html`<h1>${title}</h1>
      <p>${text}</p>
      ${explanation === undefined ? "" : html`<p class="soft">${explanation}</p>`}`,
  );
}

export function confirmSignOutPage(brand: string, redirectTo: string): Html {
  return layout(
    brand,
    "Sign out",
    html`<h1>Sign out of ${brand}?</h1>
      <form method="post" action="/end-session/confirm">
        <input type="hidden" name="post_logout_redirect_uri" value="${redirectTo}" />
        <div class="choices"><button class="main">Sign out</button></div>
      </form>`,
  );
}

/** OAuth 2.0 Form Post Response Mode 1.0 section 2. */
export function formPostPage(
  brand: string,
  redirectUri: string,
  parameters: readonly (readonly [string, string])[],
): Html {
  return layout(
    brand,
    "Going back",
    html`<h1>Going back</h1>
      <form method="post" action="${redirectUri}">
        ${parameters.map(([name, value]) => html`<input type="hidden" name="${name}" value="${value}" />`)}
        <div class="choices"><button class="main">Go on</button></div>
      </form>
      <script>
        document.forms[0].submit();
      </script>`,
  );
}

/** Loads the sign-out pages of the apps in frames, and then goes on. */
export function signedOutPage(brand: string, frames: readonly string[], redirectTo: string): Html {
  return layout(
    brand,
    "Signed out",
    html`<h1>You are signed out of ${brand}</h1>
      ${frames.map((src) => html`<iframe src="${src}" title="An app signs out" hidden></iframe>`)}
      ${
        redirectTo === ""
          ? ""
          : html`<meta http-equiv="refresh" content="1;url=${redirectTo}" />
              <p><a href="${redirectTo}">Go on</a></p>`
      }`,
  );
}

function describe(person: Person): string {
  if (person.isSuspended) return "account suspended";
  return [person.email ?? "no e-mail address", ...person.roles].join(" · ");
}

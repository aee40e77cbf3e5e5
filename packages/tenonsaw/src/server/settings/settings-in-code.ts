import type { Platform } from "../../platform/index.js";
import type { ProblemFinding } from "../../problem/index.js";
import { refuseSettings } from "../../provider/index.js";
import type { Store } from "../../session/index.js";
import { storeMethods } from "../../stores/budget.js";
import type { BrowserStore } from "../../stores/cookie.js";
import type { SettingsInCode } from "./settings-types.js";

const hooks = [
  "welcome",
  "limitRate",
  "onConnection",
  "onProblem",
  "trace",
] as const satisfies readonly (keyof SettingsInCode)[];
const ofPlatform = [
  "now",
  "monotonic",
  "fetch",
  "randomBytes",
  "deadline",
  "wait",
  "print",
  "follow",
  "followed",
  "environment",
  "readFile",
] as const satisfies readonly (keyof Platform)[];

type Members = Readonly<Record<string, unknown>>;

/**
 * What no file can say is looked at before anything is begun: a function that is none would be missed with the first visitor.
 *
 * @param hasOwnSignIn whether the app signs people in itself, and has their accounts connected here
 * @throws provider.settings-refused
 */
export function requireSettingsInCode(settings: unknown, hasOwnSignIn: boolean): void {
  if (typeof settings !== "object" || settings === null)
    refuseSettings({
      path: "(settings)",
      message: "must be an object; readSettingsFile of tenonsaw/node reads a file",
    });
  if (settings instanceof Promise)
    refuseSettings({ path: "(settings)", message: "must be an object, and is a promise: await it" });
  const { platform, ...members } = settings as Members;
  if ("settings" in members && "isProduction" in members)
    refuseSettings({
      path: "settings",
      message: "holds the settings that readSettingsFile has read: { ...read.settings, store }",
    });
  const odd = hooks.filter((name) => members[name] !== undefined && typeof members[name] !== "function");
  const findings: ProblemFinding[] = odd.map((path) => ({
    path,
    message: `must be a function, and is a ${typeof members[path]}`,
  }));
  if (hasOwnSignIn && members["welcome"] !== undefined)
    findings.push({
      path: "welcome",
      message: "must be left out: nobody signs in here, whom it could ask about",
    });
  if (!hasOwnSignIn && members["personOf"] !== undefined)
    findings.push({
      path: "personOf",
      message: "belongs to createConnections, which an app with its own sign-in has in place of createSignIn",
    });
  const parts = (platform ?? {}) as Members;
  const missing = ofPlatform.filter((name) => typeof parts[name] !== "function");
  if (platform !== undefined && (missing.length > 0 || typeof parts["crypto"] !== "object"))
    findings.push({
      path: "platform",
      message: `must be what createPlatform makes, and has no ${missing.join(", ") || "crypto"}`,
    });
  else {
    const known: readonly string[] = [...ofPlatform, "crypto"];
    const unknown = Object.keys(parts).filter((name) => !known.includes(name));
    for (const name of unknown)
      findings.push({
        path: `platform.${name}`,
        message: `is no part of a platform: it has ${known.join(", ")}`,
      });
  }
  if (findings.length > 0) refuseSettings(...findings);
}

/** @throws provider.settings-refused for what is no store */
export function requireStore<Given extends Store | BrowserStore>(given: Given): Given {
  const members = (typeof given === "object" ? given : {}) as unknown as Members | null;
  if (typeof members?.["open"] === "function") return given;
  const missing = storeMethods.filter((name) => typeof members?.[name] !== "function");
  if (missing.length === 0) return given;
  const isOther = missing.length === storeMethods.length;
  const message = isOther
    ? "must be what openSqliteStore, createMemoryStore or the like return"
    : `a store of one's own takes all of a store's methods, and this one has no ${missing.join(", ")}`;
  const isNone = (given as unknown) === undefined;
  return refuseSettings({ path: "store", message: isNone ? "is missing" : message });
}

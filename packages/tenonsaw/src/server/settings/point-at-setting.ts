import type { Problem, ProblemCode } from "../../problem/index.js";
import type { ResolvedSignInSettings, SettingPlaces } from "./settings-types.js";

/** Problems that mostly come from one line of the settings, and which one. */
const suspects: Partial<Record<ProblemCode, keyof SettingPlaces>> = {
  "response.cookie-missing": "origin",
  "response.other-host": "origin",
  "response.other-browser": "origin",
  "session.other-origin": "origin",
  "server.origin-unknown": "proxies",
};

/** Causes that no setting changes. */
const innocent: readonly (string | undefined)[] = ["frame", "by-hand", "untold", "no-script"];

/** A problem with the line of the settings to look at first, with file, line and column where they came from a file. */
export function pointAtSetting(
  problem: Problem,
  settings: Pick<ResolvedSignInSettings, "origin" | "proxies">,
  places: SettingPlaces | undefined,
): Problem {
  const name = suspects[problem.code];
  if (name === undefined || problem.findings || innocent.includes(problem.because)) return problem;
  const value = settings[name];
  const message = value === undefined ? "is not set" : `is ${JSON.stringify(value)}`;
  return { ...problem, findings: [{ path: name, message, ...(places && { place: places[name] }) }] };
}

import type * as v from "valibot";
import { quoted, type ProblemFinding } from "../../problem/index.js";
import { nearestName, parseSettings, refuseSettings } from "../../provider/index.js";
import { environmentSettings, joinProviders, readSignInSettings } from "./settings.js";
import type { ResolvedSignInSettings } from "./settings-types.js";

/** Settings of one environment, ready to use. */
export interface ChosenSettings {
  readonly settings: ResolvedSignInSettings;
  /** Absent where the settings know no environments. */
  readonly environment?: string;
  /** Names of all there are. */
  readonly environments: readonly string[];
  readonly isProduction: boolean;
  /** What is allowed and yet worth changing. */
  readonly warnings: readonly ProblemFinding[];
}

type ParsedSettings = v.InferOutput<typeof environmentSettings>;
type Data = Readonly<Record<string, unknown>>;

/**
 * Takes the settings of one environment: what all share, overlaid with its own.
 *
 * @param environment its name; where it is left out, that of the settings, or the only one there is
 * @param saidBy where that name comes from, for the words of a problem
 * @throws provider.settings-refused with everything that is wrong
 */
export function chooseEnvironment(
  given: unknown,
  environment?: string,
  saidBy = "what was asked for",
): ChosenSettings {
  const data = joinProviders(given);
  const parsed = parseSettings(environmentSettings, data);
  const { $schema: _schema, environment: preset, environments, ...shared } = parsed;
  if (!environments) {
    if (environment !== undefined)
      refuse("environments", `are not there, and ${saidBy} is ${quoted(environment)}`);
    return judge(readSignInSettings(withoutLabels(data)), parsed, preset, false);
  }
  const names = Object.keys(environments);
  const name = environment ?? preset ?? (names.length === 1 ? names[0] : undefined);
  if (name === undefined) refuse("environment", `must be one of ${names.join(", ")}; nothing says which`);
  const own = Object.hasOwn(environments, name) ? environments[name] : undefined;
  if (!own) {
    const nearest = nearestName(name, names);
    const hint = nearest === undefined ? `there are ${names.join(", ")}` : `did you mean "${nearest}"?`;
    const source = environment === undefined ? "it" : saidBy;
    refuse("environment", `${source} is ${quoted(name)}, which is not one of the environments; ${hint}`);
  }
  const { production = false, ...rest } = own;
  return judge(readSignInSettings(overlay(shared, rest)), parsed, name, production);
}

/** What says something of the settings and is none: the schema's address, and which environment they are of. */
function withoutLabels(data: unknown): unknown {
  const { $schema: _schema, environment: _name, ...rest } = data as Data;
  return rest;
}

function judge(
  settings: ResolvedSignInSettings,
  data: ParsedSettings,
  environment: string | undefined,
  isProduction: boolean,
): ChosenSettings {
  if (isProduction && settings.development) {
    refuse("development", "must not be on in production: it shows visitors too much");
  }
  return {
    settings: { ...settings, ...(environment !== undefined && { environment }) },
    ...(environment !== undefined && { environment }),
    environments: Object.keys(data.environments ?? {}),
    isProduction,
    warnings: findShared(data, environment),
  };
}

/** Values of another environment that stand in this one: the sandbox's client ID in production, and the like. */
function findShared(
  { environments = {} }: ParsedSettings,
  environment: string | undefined,
): readonly ProblemFinding[] {
  if (environment === undefined) return [];
  const own = identifyingValues(environments[environment]);
  return Object.entries(environments)
    .filter(([name]) => name !== environment)
    .flatMap(([name, other]) => {
      const theirs = identifyingValues(other);
      return [...own]
        .filter(([path, value]) => theirs.get(path) === value)
        .map(([path]) => ({
          path,
          message: `is the same as in ${name}: one of the two is probably a mix-up`,
        }));
    });
}

/** What should differ between environments: where the app is, who it is at the provider, where its APIs are. */
function identifyingValues(settings: Data | undefined): ReadonlyMap<string, string> {
  const values = new Map<string, string>();
  const add = (path: string, value: unknown) => {
    if (value !== undefined) values.set(path, JSON.stringify(value));
  };
  const each = (group: unknown) => Object.entries((group ?? {}) as Record<string, Data>);
  add("origin", settings?.["origin"]);
  for (const [name, provider] of each(settings?.["providers"])) {
    add(`providers.${name}.clientId`, provider["clientId"]);
    add(`providers.${name}.clientSecret`, provider["clientSecret"]);
  }
  for (const [name, api] of each(settings?.["apis"])) add(`apis.${name}.origin`, api["origin"]);
  return values;
}

/** Objects are laid over each other member by member; references to secrets, and all that is no object, whole. */
function overlay(below: unknown, above: unknown): unknown {
  if (!isPlain(below) || !isPlain(above) || isReference(above) || isReference(below)) return above ?? below;
  const names = new Set([...Object.keys(below), ...Object.keys(above)]);
  return Object.fromEntries([...names].map((name) => [name, overlay(below[name], above[name])]));
}

function isPlain(value: unknown): value is Data {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

function isReference(value: Data): boolean {
  return Object.keys(value).length === 1 && ("env" in value || "file" in value);
}

function refuse(path: string, message: string): never {
  refuseSettings({ path, message });
}

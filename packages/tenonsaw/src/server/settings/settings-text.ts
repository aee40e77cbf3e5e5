import {
  findNodeAtLocation,
  getNodeValue,
  parseTree,
  printParseErrorCode,
  type Node,
  type ParseError,
} from "jsonc-parser";
import { fail, isProblem, type ProblemFinding } from "../../problem/index.js";
import { requireFit } from "../../trace/index.js";
import { chooseEnvironment, type ChosenSettings } from "./choose-environment.js";
import type { ResolvedSignInSettings } from "./settings-types.js";
import { settingPlaces, type SettingPlaces } from "./settings-types.js";

const longestSettings = 1024 * 1024;
const mostNodes = 5000;
const mostMistakes = 20;

/**
 * Reads settings from the text of a file: JSON, comments and trailing commas allowed.
 *
 * @param file its name, for findings
 * @param environment which of the environments; see chooseEnvironment
 * @param saidBy where that name comes from, for the words of a problem
 * @throws server.unfit-argument for what is no text; provider.settings-refused, each finding with file, line and column
 */
export function readSettingsText(
  given: string,
  file: string,
  environment?: string,
  saidBy?: string,
): ChosenSettings {
  requireFit(given, (text) => typeof text === "string", "the text of a settings file");
  // Some editors put a byte order mark before the text (RFC 8259 section 8.1 lets a reader leave it out).
  const text = given.replace(/^\ufeff/, "");
  const errors: ParseError[] = [];
  // The parser goes as deep as the text does, whatever that costs; settings are nowhere near it.
  const mistaken = text.length > longestSettings || (text.match(/[[{]/g) ?? []).length > mostNodes;
  if (mistaken) {
    const findings = [
      { path: "(file)", message: "is far larger than settings are", place: placeOf(text, file, 0) },
    ];
    fail("provider.settings-refused", { received: `${file}: ${text.length} characters`, findings });
  }
  const tree = parseTree(text, errors, { allowTrailingComma: true });
  if (tree && errors.length === 0 && tree.type !== "object") {
    const findings = [
      { path: "(file)", message: "is JSON, but not an object", place: placeOf(text, file, 0) },
    ];
    fail("provider.settings-refused", { received: `${file}: no object`, findings });
  }
  if (!tree || errors.length > 0) {
    // Where so much is wrong, it is no settings file.
    const findings = errors.slice(0, mostMistakes).map(({ error, offset }) => ({
      path: "(file)",
      // The parser's name for the mistake; the text itself is not repeated, it may be a secret.
      message: `is not JSON: ${printParseErrorCode(error)
        .replace(/(?<=[a-z])(?=[A-Z])/g, " ")
        .toLowerCase()}`,
      place: placeOf(text, file, offset),
    }));
    fail("provider.settings-refused", { received: `${file}: not JSON`, findings });
  }
  // RFC 8259 section 4: which of two members of one name counts is anybody's guess.
  const doubled = membersTwice(tree).map(({ name, offset }) => ({
    path: name,
    message: "stands here twice: the last one would count",
    place: placeOf(text, file, offset),
  }));
  if (doubled.length > 0)
    fail("provider.settings-refused", { received: `${file}: members twice`, findings: doubled });
  const locate = (findings: readonly ProblemFinding[], chosen?: string) =>
    findings.map((finding) => ({
      ...finding,
      place: placeOf(text, file, findNode(tree, finding.path, chosen)?.offset ?? 0),
    }));
  try {
    const chosen = chooseEnvironment(getNodeValue(tree), environment, saidBy);
    // In code a secret may have come from anywhere; in a file it stands there for everybody who can read it.
    const literals = findLiteralSecrets(chosen.settings);
    if (chosen.isProduction && literals.length > 0) {
      fail("provider.settings-refused", { received: "literal secrets in production", findings: literals });
    }
    const [origin = "", proxies = ""] = ["origin", "proxies"].map((name) =>
      placeOf(text, file, findNode(tree, name, chosen.environment)?.offset ?? 0),
    );
    const places: SettingPlaces = { origin, proxies };
    return {
      ...chosen,
      settings: Object.assign(chosen.settings, { [settingPlaces]: places }),
      warnings: locate([...literals, ...chosen.warnings], chosen.environment),
    };
  } catch (error) {
    if (!isProblem(error, "provider.settings-refused")) throw error;
    const { findings = [], received = "" } = error.problem;
    fail("provider.settings-refused", {
      received: `${file}: ${received}`,
      findings: locate(findings, environment),
    });
  }
}

/** The members, each by its path, whose names stand twice in one object. */
function membersTwice(node: Node, path: readonly string[] = []): readonly { name: string; offset: number }[] {
  const seen = new Set<unknown>();
  return (node.children ?? []).flatMap((child, index) => {
    const [key, value] = child.type === "property" ? (child.children ?? []) : [];
    const own = [...path, String(key ? key.value : index)];
    const again = key !== undefined && seen.has(key.value);
    seen.add(key?.value);
    return [
      ...(again ? [{ name: own.join("."), offset: child.offset }] : []),
      ...membersTwice(value ?? child, own),
    ];
  });
}

/** Secrets that stand in the settings themselves. */
function findLiteralSecrets({
  providers,
  oauth1Providers,
  keys,
}: ResolvedSignInSettings): readonly ProblemFinding[] {
  const message = "is a literal secret: put it into an environment variable or a file, and refer to it";
  return [
    ...(typeof keys === "string" ? [{ path: "keys", message }] : []),
    ...Object.entries({ ...providers, ...oauth1Providers }).flatMap(([name, provider]) =>
      (["clientSecret", "clientKeys"] as const)
        .filter((member) => typeof provider[member] === "string")
        .map((member) => ({ path: `providers.${name}.${member}`, message })),
    ),
  ];
}

/** The node a path leads to: in the environment first, then in what is shared, then as much of the way as there is. */
function findNode(tree: Node, path: string, environment: string | undefined): Node | undefined {
  const chosen = environment ?? (getNodeValue(tree) as { environment?: string } | null)?.environment;
  const steps = path.startsWith("(") ? [] : path.split(".");
  for (let length = steps.length; length > 0; length -= 1) {
    const part = steps.slice(0, length);
    const roots = chosen === undefined ? [part] : [["environments", chosen, ...part], part];
    for (const root of roots) {
      const found = findNodeAtLocation(tree, root);
      // The member's name is where an editor should put the cursor.
      if (found) return found.parent?.type === "property" ? found.parent : found;
    }
  }
  return tree;
}

function placeOf(text: string, file: string, offset: number): string {
  const before = text.slice(0, offset).split("\n");
  return `${file}:${before.length}:${(before.at(-1)?.length ?? 0) + 1}`;
}

// What the package exports, by entry, from the sources: for docs/api.md, and to find what nothing is said of.
import { resolve } from "node:path";
import ts from "typescript";
import { entriesOf } from "./entries.mjs";

const root = "packages/tenonsaw";

/** The entries of the package, each with what it exports: name, what it is, its declaration, what is said of it. */
export function readApi() {
  const entries = entriesOf(root).map(({ name, source }) => [name, resolve(root, source)]);
  const { config } = ts.readConfigFile("tsconfig.base.json", (path) => ts.sys.readFile(path));
  const { options } = ts.parseJsonConfigFileContent(config, ts.sys, ".");
  const program = ts.createProgram(
    entries.map(([, file]) => file),
    { ...options, noEmit: true, composite: false },
  );
  const checker = program.getTypeChecker();
  return entries.map(([entry, file]) => {
    const module = checker.getSymbolAtLocation(program.getSourceFile(file));
    const names = checker
      .getExportsOfModule(module)
      .map((each) => describe(checker, each))
      .sort((left, right) => left.name.localeCompare(right.name, "en"));
    return { entry, names };
  });
}

function describe(checker, exported) {
  const symbol = exported.flags & ts.SymbolFlags.Alias ? checker.getAliasedSymbol(exported) : exported;
  const [declaration] = symbol.declarations ?? [];
  const text = ts.displayPartsToString(symbol.getDocumentationComment(checker)).trim();
  const throwing = symbol.getJsDocTags(checker).find(({ name }) => name === "throws");
  return {
    name: exported.name,
    kind: kindOf(declaration),
    text,
    ...(throwing && { throws: ts.displayPartsToString(throwing.text).replace(/\s+/g, " ") }),
    declaration: headOf(declaration),
    members: membersOf(checker, declaration),
  };
}

function kindOf(declaration) {
  if (ts.isFunctionDeclaration(declaration)) return "function";
  if (ts.isClassDeclaration(declaration)) return "class";
  if (ts.isInterfaceDeclaration(declaration)) return "interface";
  if (ts.isTypeAliasDeclaration(declaration)) return "type";
  return "value";
}

/** A function without its body; a short type as it is written. */
function headOf(declaration) {
  const whole = declaration.getText();
  const bare = (text) => text.replace(/^export (default )?/, "");
  if (ts.isFunctionDeclaration(declaration))
    return bare(
      whole.slice(0, (declaration.body?.getStart() ?? declaration.end) - declaration.getStart()),
    ).trim();
  if (ts.isTypeAliasDeclaration(declaration) && bare(whole).length < 400)
    return bare(whole).replace(/\/\*\*[\s\S]*?\*\/\s*/g, "");
  return undefined;
}

/** What an interface or a class offers, each with what is said of it. */
function membersOf(checker, declaration) {
  if (!ts.isInterfaceDeclaration(declaration) && !ts.isClassDeclaration(declaration)) return [];
  return declaration.members
    .filter((member) => member.name && ts.isIdentifier(member.name) && !isHidden(member))
    .map((member) => {
      const symbol = checker.getSymbolAtLocation(member.name);
      const body = member.body ?? member.initializer;
      const text = member.getText().slice(0, body ? body.getStart() - member.getStart() : undefined);
      return {
        name: member.name.text,
        text: ts.displayPartsToString(symbol.getDocumentationComment(checker)).replace(/\s+/g, " ").trim(),
        declaration: text
          .replace(/\/\*\*[\s\S]*?\*\/\s*/g, "")
          .replace(/^readonly /, "")
          .replace(/[;={]\s*$/, "")
          .replace(/\s+/g, " ")
          .trim(),
      };
    });
}

function isHidden(member) {
  return (
    (ts.getCombinedModifierFlags(member) & (ts.ModifierFlags.Private | ts.ModifierFlags.Protected)) !== 0
  );
}

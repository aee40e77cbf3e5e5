// What the interfaces of the settings say of each member: for the JSON Schema and for docs/settings.md.
import { readFileSync } from "node:fs";
import ts from "typescript";

const files = ["provider", "oauth1", "server/settings"].map(
  (folder) => `packages/tenonsaw/src/${folder}/settings-types.ts`,
);
const declared = new Map();
for (const path of files) {
  const file = ts.createSourceFile(path, readFileSync(path, "utf8"), ts.ScriptTarget.Latest, true);
  for (const statement of file.statements)
    if (ts.isInterfaceDeclaration(statement) || ts.isTypeAliasDeclaration(statement))
      declared.set(statement.name.text, statement);
}

/** The sentence above a declaration. */
export function textOf(name) {
  return commentOf(declared.get(name));
}

/**
 * The members of a settings type, those of the types it extends or joins first: name, sentence, type as it is written, and
 * which other settings types stand in it.
 */
export function membersOf(name) {
  const node = declared.get(name);
  if (!node) return [];
  const inherited = ts.isInterfaceDeclaration(node)
    ? (node.heritageClauses ?? []).flatMap((clause) => clause.types).flatMap((type) => typesIn(type))
    : typesIn(node.type);
  const own = ts.isInterfaceDeclaration(node)
    ? node.members
    : literalsIn(node.type).flatMap(({ members }) => members);
  return [
    ...[...new Set(inherited)].flatMap(membersOf),
    ...own.filter(ts.isPropertySignature).map((member) => ({
      name: member.name.getText(),
      text: commentOf(member),
      isRequired: member.questionToken === undefined,
      type: member.type.getText().replace(/\s*\|\s*undefined$/, ""),
      types: typesIn(member.type),
    })),
  ];
}

function commentOf(node) {
  const [comment] = ts.getJSDocCommentsAndTags(node);
  return (ts.getTextOfJSDocComment(comment?.comment) ?? "").replace(/\s*\n\s*/g, " ").trim();
}

/** The settings types that are named in a type. */
function typesIn(node) {
  return collect(node, (each) => {
    const name = ts.isTypeReferenceNode(each)
      ? each.typeName.getText()
      : ts.isExpressionWithTypeArguments(each)
        ? each.expression.getText()
        : undefined;
    return declared.has(name) ? [name] : [];
  });
}

function literalsIn(node) {
  return collect(node, (each) => (ts.isTypeLiteralNode(each) ? [each] : []));
}

/** What `pick` finds in a node and all that is in it. */
function collect(node, pick) {
  const found = [];
  const walk = (each) => {
    found.push(...pick(each));
    ts.forEachChild(each, walk);
  };
  walk(node);
  return found;
}

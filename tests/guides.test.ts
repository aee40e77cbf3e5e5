import { readFile, readdir } from "node:fs/promises";
import { fileURLToPath } from "node:url";
import ts from "typescript";
import { expect, describe, it } from "vitest";
import { readSettingsText } from "tenonsaw/server";
import { root } from "./support/processes.js";

const pages = (await readdir(`${root}docs`)).filter((name) => name.startsWith("guide-"));
const blocks = (
  await Promise.all(
    pages.map(async (page) => {
      const text = await readFile(`${root}docs/${page}`, "utf8");
      return [...text.matchAll(/```(ts|jsonc)\n([\s\S]*?)```/g)].map(([, kind, code = ""]) => ({
        page,
        kind,
        code,
      }));
    }),
  )
).flat();

/** What the pages speak of as if it were there. */
const given = `
import { isProblem } from "tenonsaw";
import { createSignIn, describeReport, passOn, type Session, type SignIn, type SignInSettings } from "tenonsaw/server";
import { createMemoryStore } from "tenonsaw/stores/memory";
declare const signIn: SignIn;
declare const session: Session;
declare const request: Request;
declare const settings: SignInSettings;
declare const logger: Record<"info" | "error", (data: object, text: string) => void>;
declare const book: (request: Request, session: Session) => Response;
declare const [change, decide]: [typeof book, typeof book];
declare const [personId, issuer, clientId, clientSecret]: [string, string, string, string];
declare const [redirectUri, callbackUrl, certificate, key]: [string, string, string, string];
declare const members: {
  findBySubject(issuer: string, subject: string): Promise<{ number: string; isBlocked: boolean } | undefined>;
  add(issuer: string, subject: string): Promise<string>;
};
export const used = [isProblem, createSignIn, describeReport, logger, passOn, createMemoryStore, signIn, session, request, settings, book, change, decide,
  personId, issuer, clientId, clientSecret, redirectUri, callbackUrl, certificate, key, members];
`;

describe("the guides", () => {
  it("show code that compiles against this version", () => {
    /** Names by what they are imported from: several blocks begin with the same import. */
    const imports = new Map<string, Set<string>>();
    const take = (_: string, names: string, from: string) => {
      for (const name of names.split(","))
        imports.set(from, (imports.get(from) ?? new Set()).add(name.trim()));
      return "";
    };
    const bodies = blocks
      .filter(({ kind }) => kind === "ts")
      .map(({ page, code }, index) => {
        const rest = code
          .replace(/^import type \{(.*)\} from "(.*)";\n/gm, (_, names: string, from: string) =>
            take("", names.replace(/(\w+)/g, "type $1"), from),
          )
          .replace(/^import \{(.*)\} from "(.*)";\n/gm, take);
        return `// ${page}\nexport async function block${index}(): Promise<unknown> {\n${rest}\nreturn undefined;\n}`;
      });
    expect(bodies.length).toBeGreaterThan(15);
    const name = fileURLToPath(new URL("guides.generated.ts", import.meta.url));
    const lines = [...imports].map(([from, names]) => `import { ${[...names].join(", ")} } from "${from}";`);
    const text = [given, ...lines, ...bodies].join("\n");
    const options: ts.CompilerOptions = {
      ...ts.parseJsonConfigFileContent(
        ts.readConfigFile(`${root}tsconfig.base.json`, (path) => ts.sys.readFile(path)).config,
        ts.sys,
        root,
      ).options,
      noEmit: true,
      composite: false,
      noUnusedLocals: false,
    };
    const host = ts.createCompilerHost(options);
    const onDisk = { ...host };
    host.readFile = (path) => (path === name ? text : onDisk.readFile(path));
    host.fileExists = (path) => path === name || onDisk.fileExists(path);
    host.getSourceFile = (path, language, ...more) =>
      path === name
        ? ts.createSourceFile(path, text, language)
        : onDisk.getSourceFile(path, language, ...more);
    const program = ts.createProgram([name], options, host);
    const found = ts.getPreEmitDiagnostics(program).map(({ file, start = 0, messageText }) => {
      const line = file?.text.slice(0, start).split("\n").length ?? 0;
      return `${file?.text.split("\n")[line - 1] ?? ""}: ${ts.flattenDiagnosticMessageText(messageText, " ")}`;
    });
    expect(found).toEqual([]);
  });

  it.each(blocks.filter(({ kind }) => kind === "jsonc"))("show settings that hold: $page", ({ code }) => {
    const provider = '{ "issuer": "https://id.quayside.example", "clientId": "ferrywell" }';
    const has = (name: string) => new RegExp(`^"${name}":`, "m").test(code);
    const rest = [
      ...(has("origin") ? [] : ['"origin": "https://ferrywell.example"']),
      ...(has("providers") ? [] : [`"providers": { "quayside": ${provider} }`]),
    ];
    const text = `{ ${[code.trim().replace(/,$/, ""), ...rest].join(",\n")} }`;
    expect(readSettingsText(text, "a guide").warnings).toEqual([]);
  });
});

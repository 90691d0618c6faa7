// Every public export, and every member of one, has a doc comment: `npm run lint` says where one is missing.
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import ts from 'typescript';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const source = join(root, 'packages/jexo/src');
const entries = ['index.ts', 'testing.ts', 'browser.ts', 'view/index.ts', 'view/react.ts', 'view/host.ts', 'vite-entry.ts'].map((name) =>
  join(source, name),
);
const { options } = ts.parseJsonConfigFileContent(
  ts.readConfigFile(join(root, 'packages/jexo/tsconfig.json'), ts.sys.readFile).config,
  ts.sys,
  join(root, 'packages/jexo'),
);
const program = ts.createProgram(entries, { ...options, noEmit: true });
const checker = program.getTypeChecker();
const missing = [];
const seen = new Set();

const placeOf = (node) => {
  const file = node.getSourceFile();
  return `${relative(root, file.fileName)}:${file.getLineAndCharacterOfPosition(node.getStart()).line + 1}`;
};
const isDocumented = (symbol) => symbol.getDocumentationComment(checker).length > 0 || symbol.getJsDocTags(checker).length > 0;

for (const entry of entries)
  for (const exported of checker.getExportsOfModule(checker.getSymbolAtLocation(program.getSourceFile(entry)))) {
    const symbol = exported.flags & ts.SymbolFlags.Alias ? checker.getAliasedSymbol(exported) : exported;
    if (seen.has(symbol)) continue;
    seen.add(symbol);
    const [declaration] = symbol.declarations ?? [];
    if (declaration === undefined) continue;
    if (!isDocumented(symbol)) missing.push(`${placeOf(declaration)} ${exported.getName()}`);
    for (const each of symbol.declarations) {
      // The protocol's own types carry the protocol's own names: the standard documents their members.
      if (each.getSourceFile().fileName.includes('/src/protocol/')) continue;
      const members = ts.isInterfaceDeclaration(each) || ts.isClassDeclaration(each) ? each.members : [];
      for (const member of members) {
        const isHidden = ts.getCombinedModifierFlags(member) & (ts.ModifierFlags.Private | ts.ModifierFlags.Protected);
        const name = member.name && ts.isIdentifier(member.name) ? member.name.text : undefined;
        if (isHidden || name === undefined) continue;
        const own = checker.getSymbolAtLocation(member.name);
        if (own !== undefined && !isDocumented(own)) missing.push(`${placeOf(member)} ${exported.getName()}.${name}`);
      }
    }
  }

if (missing.length > 0) {
  console.error(`${missing.length} public names have no doc comment:\n${missing.join('\n')}`);
  process.exit(1);
}

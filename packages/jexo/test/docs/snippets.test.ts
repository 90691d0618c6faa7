import { readFileSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import ts from 'typescript';
import { cooperative } from '../support/command-line.js';
import { root } from './demo-world.js';

const pages = [
  'README.md',
  ...readdirSync(join(root, 'docs'))
    .filter((file) => file.endsWith('.md'))
    .map((file) => `docs/${file}`),
];

/** What the text around a snippet brings, a declaration a line, by page. Everything else has to come from Jexo. */
const apiary = "import apiary from './apiary.js';";
const offers = "const offers: import('jexo').Offer[] = [];";
const zod = "import { z } from 'zod';";
const given: Record<string, readonly string[]> = {
  'README.md': [
    zod,
    "declare const model: import('jexo').Model;",
    'declare function move(hive: string, to: string, options: { signal: AbortSignal }): Promise<string>;',
    'declare function listApiaries(): string[];',
    'declare function find(apiary: string, hive: string): { id: string };',
    "declare function askPerson(message: string, schema: object): Promise<import('jexo').ElicitResult['content']>;",
  ],
  'docs/conversations.md': [
    'declare const key: string;',
    "declare const clients: Awaited<ReturnType<typeof import('jexo').connectAll>>;",
    "declare const askThePerson: NonNullable<import('jexo').ApprovalsOptions['person']>;",
  ],
  'docs/extending.md': ["declare function wrapReadings(file: string): import('jexo').Source;"],
  'docs/live-values.md': [
    'declare const controller: { get(path: string): number; onChange(hear: (path: string, value: number) => void): () => void; write(path: string, value: unknown): void };',
  ],
  'docs/other-servers.md': ['declare const token: string;'],
  'docs/production.md': [apiary, offers, "declare const server: import('jexo').Server;"],
  'docs/rest.md': [
    "declare const hiveSchema: import('zod').ZodType;",
    "import fastify from 'fastify';",
    'declare const schema: object;',
    'declare const handler: () => Promise<object>;',
  ],
  'docs/scale.md': [
    apiary,
    "declare const store: import('jexo').Store;",
    "declare function myStore(place: string): import('jexo').Store;",
    'declare const place: string;',
  ],
  'docs/sign-in.md': [
    apiary,
    'declare function openInBrowser(url: string): Promise<void>;',
    'declare const clientSecret: string;',
    'declare function readScale(token: string): Promise<string>;',
  ],
  'docs/transports.md': [apiary, offers, "import http from 'node:http';", 'declare const app: any;'],
  'docs/views.md': [
    zod,
    'declare function gainOf(hive: string): number;',
    'declare function draw(answer: { gainKg: number } | undefined): void;',
    'declare const container: HTMLElement;',
    "declare const page: import('jexo').ReadResourceResult;",
    "declare const tools: import('jexo').Tool[];",
    "declare const client: import('jexo').Client;",
    "declare const callTool: import('jexo/view/host').ViewHostOptions['callTool'];",
    "declare const onSay: import('jexo/view/host').ViewHostOptions['onSay'];",
    "declare const onOpenLink: import('jexo/view/host').ViewHostOptions['onOpenLink'];",
  ],
};

interface Snippet {
  readonly page: string;
  readonly line: number;
  readonly text: string;
  readonly file: string;
}

function snippetsOf(page: string): Snippet[] {
  const text = readFileSync(join(root, page), 'utf8');
  return [...text.matchAll(/^```(ts|js)\n([\s\S]*?)^```/gm)].map(({ index, 2: code }) => {
    const line = text.slice(0, index).split('\n').length + 1;
    return { page, line, text: code!, file: join(cooperative, `${page.replaceAll(/\W/g, '-')}-${line}.ts`) };
  });
}

const options: ts.CompilerOptions = {
  target: ts.ScriptTarget.ES2023,
  lib: ['lib.es2024.d.ts', 'lib.dom.d.ts', 'lib.dom.iterable.d.ts'],
  module: ts.ModuleKind.ESNext,
  moduleResolution: ts.ModuleResolutionKind.Bundler,
  strict: true,
  noImplicitAny: false,
  skipLibCheck: true,
  noEmit: true,
  allowJs: false,
  types: ['node', 'jest'],
};

/** Types of what snippets write are checked against the declarations that are published. */
function check(files: ReadonlyMap<string, string>): readonly ts.Diagnostic[] {
  const host = ts.createCompilerHost(options);
  const read = host.readFile.bind(host);
  const exists = host.fileExists.bind(host);
  const source = host.getSourceFile.bind(host);
  host.readFile = (file) => files.get(file) ?? read(file);
  host.fileExists = (file) => files.has(file) || exists(file);
  host.getSourceFile = (file, version, ...more) => {
    const text = files.get(file);
    return text === undefined ? source(file, version, ...more) : ts.createSourceFile(file, text, version);
  };
  const program = ts.createProgram([...files.keys()], options, host);
  return [...files.keys()].flatMap((file) => [
    ...program.getSyntacticDiagnostics(program.getSourceFile(file)),
    ...program.getSemanticDiagnostics(program.getSourceFile(file)),
  ]);
}

const all = pages.flatMap(snippetsOf);

/** Names that an entry of the package exports, types too. */
const exportsOf = (entry: string): string[] =>
  [
    ...readFileSync(join(root, 'packages/jexo/dist/types', entry), 'utf8').matchAll(
      /^export (?:type )?\{([^}]*)\}|^export (?:declare )?\w+ (\w+)/gm,
    ),
  ].flatMap(([, list, single]) =>
    single === undefined ? list!.split(',').map((each) => each.replace(/.* as |type /g, '').trim()) : [single],
  );

/** What stands in front of a snippet: what the text around it brings, and imports of names that it uses and does not declare. */
function front({ page, text }: Snippet, exported: ReadonlyMap<string, string>): string {
  const code = text.replaceAll(/^\s*\/\/.*$/gm, '');
  const names = new Set([...code.matchAll(/(?<![.\w'`-])[A-Za-z]\w*/g)].map(([name]) => name));
  const isDeclared = (name: string) =>
    new RegExp(`(?:const|let|function|interface|class) (?:\\{[^}]*)?\\b${name}\\b|^import [^;]*\\b${name}\\b`, 'm').test(code);
  const lines = [...names].flatMap((name) => {
    if (isDeclared(name)) return [];
    const own = given[page]?.find((line) => new RegExp(`^(?:declare (?:const|function)|const|import(?: \\{)?) ${name}\\b`).test(line));
    return own ?? (exported.has(name) ? `import { ${name} } from '${exported.get(name)!}';` : []);
  });
  return lines.join(' ');
}

test('every snippet of every document is valid, with the types that are published', () => {
  const exported = new Map(
    [['testing.d.ts', 'jexo/testing'] as const, ['index.d.ts', 'jexo'] as const].flatMap(([entry, from]) =>
      exportsOf(entry).map((name) => [name, from] as const),
    ),
  );
  const server = all.find(({ page, text }) => page === 'docs/views.md' && text.includes('export const hiveWeight'))!;
  const files = new Map([
    [join(cooperative, 'hives.mts'), "export * from './hives.js';\n"],
    [join(cooperative, '../server.ts'), `export * from '${server.file.replace(/\.ts$/, '.js')}';\n`],
    ...all.map((snippet) => [snippet.file, `${front(snippet, exported)}\n${snippet.text}\nexport {};\n`] as const),
  ]);
  const wrong = check(files).map(({ file, start, messageText }) => {
    const { page, line } = all.find((each) => each.file === file!.fileName) ?? { page: file!.fileName, line: 1 };
    return `${page}:${line + file!.getLineAndCharacterOfPosition(start!).line - 1} ${ts.flattenDiagnosticMessageText(messageText, ' ').slice(0, 200)}`;
  });
  expect(all.length).toBeGreaterThan(40);
  expect(wrong).toEqual([]);
}, 60_000);

// Reading the types of 200 functions: against what the compiler alone needs to load and to check the same file, in the same run.
import { execFileSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';
import { inTurn, table } from './measure.mjs';

const dist = fileURLToPath(new URL('../packages/jexo/dist', import.meta.url));

/** 200 functions over 40 types of their own, as a real module of this size would have. */
export function twoHundredFunctions() {
  const types = Array.from(
    { length: 40 },
    (_, index) =>
      `/** A record of kind ${index}. */\nexport interface Record${index} {\n  /** Which. */\n  id: string;\n  at: Date;\n  values: number[];\n  state: 'new' | 'kept' | 'gone';\n  place?: { apiary: string; row: number };\n}`,
  );
  const functions = Array.from({ length: 200 }, (_, index) => {
    const type = `Record${index % 40}`;
    return `/** Works out figure ${index}.\n *  @param from where to begin  @minimum 0\n *  @param records what to count */\nexport function figure${index}(from: number, records: ${type}[], mode: 'sum' | 'mean' = 'sum'): { total: number; last?: ${type} } {\n  const total = records.reduce((sum, { values }) => sum + values.length, from);\n  return mode === 'sum' ? { total } : { total: total / records.length, last: records.at(-1)! };\n}`;
  });
  return [...types, ...functions].join('\n\n');
}

const compilerAlone = `
import { readFileSync } from 'node:fs';
import { brotliDecompressSync, gunzipSync } from 'node:zlib';
import { createRequire } from 'node:module';
import vm from 'node:vm';
const [folder, file] = process.argv.slice(-2);
const start = performance.now();
const module = { exports: {} };
vm.compileFunction(brotliDecompressSync(readFileSync(folder + '/compiler.cjs.br')).toString(), ['exports', 'require', 'module', '__filename', '__dirname'])(module.exports, createRequire(import.meta.url), module, file, folder);
const ts = module.exports;
const libraries = new Map(Object.entries(JSON.parse(gunzipSync(readFileSync(folder + '/libraries.json.gz')).toString())));
const contentOf = (name) => libraries.get(name.replace('/lib/', '')) ?? ts.sys.readFile(name);
const program = ts.createProgram([file], { strict: true, noEmit: true, lib: ['lib.esnext.full.d.ts'], types: [], target: ts.ScriptTarget.ESNext, module: ts.ModuleKind.ESNext, moduleResolution: ts.ModuleResolutionKind.Bundler, skipLibCheck: true }, {
  ...ts.createCompilerHost({}),
  fileExists: (name) => libraries.has(name.replace('/lib/', '')) || ts.sys.fileExists(name),
  readFile: contentOf,
  getSourceFile: (name, version) => { const text = contentOf(name); return text === undefined ? undefined : ts.createSourceFile(name, text, version); },
  getDefaultLibLocation: () => '/lib',
  getDefaultLibFileName: () => '/lib/lib.esnext.full.d.ts',
});
const problems = program.getSemanticDiagnostics(program.getSourceFile(file));
if (problems.length > 0) throw new Error(ts.flattenDiagnosticMessageText(problems[0].messageText, ' '));
console.log(performance.now() - start);
`;
const ours = `
const [index, file] = process.argv.slice(-2);
const { wrapFunctions } = await import(index);
const module = Object.fromEntries(Array.from({ length: 200 }, (_, each) => ['figure' + each, () => 0]));
const start = performance.now();
const { offers, omitted } = await wrapFunctions(module, { types: file }).read();
const ms = performance.now() - start;
if (offers.length !== 200 || omitted.length > 0) throw new Error('not all 200 were read');
console.log(ms);
`;

export async function reader({ rounds = 5 } = {}) {
  const folder = mkdtempSync(join(tmpdir(), 'jexo-reader-'));
  const file = join(folder, 'figures.ts');
  writeFileSync(file, twoHundredFunctions());
  const run = (code, argument, env = {}) =>
    Number(
      execFileSync(process.execPath, ['--input-type=module', '-e', code, argument, file], {
        encoding: 'utf8',
        env: { ...process.env, ...env },
      }),
    );
  const index = pathToFileURL(join(dist, 'index.mjs')).href;
  let fresh = 0;
  const measures = {
    compiler: () => run(compilerAlone, join(dist, 'compiler')),
    cold: () => run(ours, index, { JEXO_CACHE: join(folder, `cache${++fresh}`) }),
    again: () => run(ours, index, { JEXO_CACHE: join(folder, 'cache1') }),
  };
  try {
    const found = await inTurn(measures, rounds, (measure) => measure());
    return { ...found, ratio: found.cold / found.compiler };
  } finally {
    rmSync(folder, { recursive: true });
  }
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const { compiler, cold, again, ratio } = await reader();
  const ms = (value) => `${value.toFixed(0)} ms`;
  console.log(
    table(
      ['200 functions', 'time'],
      [
        ['the compiler alone, to load and check', ms(compiler)],
        ['read cold', ms(cold)],
        ['read again', ms(again)],
        ['ratio, cold', ratio.toFixed(2)],
      ],
    ),
  );
}

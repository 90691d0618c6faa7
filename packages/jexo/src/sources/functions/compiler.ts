import { existsSync, readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import vm from 'node:vm';
import { brotliDecompressSync, gunzipSync } from 'node:zlib';
import type ts from 'typescript';
import { JexoError } from '../../errors.js';

export type Compiler = typeof ts;

/** The folder of the compiler that comes with this package: what the user's own project has installed does not matter. */
function compilerFolder(): string {
  for (let folder = dirname(fileURLToPath(import.meta.url)); ; folder = dirname(folder)) {
    const found = join(folder, 'dist', 'compiler');
    if (existsSync(join(found, 'compiler.cjs.br'))) return found;
    if (folder === dirname(folder)) throw new JexoError('JEXO_INSTALLATION', 'The type reader is missing from this installation of jexo.');
  }
}

let loaded: { readonly compiler: Compiler; readonly libraries: ReadonlyMap<string, string> } | undefined;

/** Loads the type reader's compiler. It costs some 200 ms, so nothing but reading types calls this. */
export function loadCompiler(): { readonly compiler: Compiler; readonly libraries: ReadonlyMap<string, string> } {
  if (loaded !== undefined) return loaded;
  const folder = compilerFolder();
  const file = join(folder, 'compiler.cjs');
  const code = brotliDecompressSync(readFileSync(`${file}.br`)).toString();
  const module: { exports: unknown } = { exports: {} };
  const run = vm.compileFunction(code, ['exports', 'require', 'module', '__filename', '__dirname'], { filename: file }) as (
    ...args: unknown[]
  ) => void;
  run(module.exports, createRequire(import.meta.url), module, file, folder);
  const libraries = JSON.parse(gunzipSync(readFileSync(join(folder, 'libraries.json.gz'))).toString()) as Record<string, string>;
  loaded = { compiler: module.exports as Compiler, libraries: new Map(Object.entries(libraries)) };
  return loaded;
}

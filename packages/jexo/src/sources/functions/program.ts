import { existsSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type ts from 'typescript';
import { packageFile } from '../../own-package.js';
import { loadCompiler, type Compiler } from './compiler.js';
import { isPackageName } from './package-name.js';

/** Where the compiler believes its libraries to be. */
const libraryFolder = '/jexo-lib/';

/** Files as parsed before, by name: a module that is read again after a change pays only for what has changed. */
const parsed = new Map<string, { readonly content: string; readonly file: ts.SourceFile }>();
let earlier: { readonly root: string; readonly program: ts.Program } | undefined;

/** The program of one module and all it imports, under the project's own options. Nothing is checked until it is asked for. */
export function createProgram(root: string): { readonly ts: Compiler; readonly program: ts.Program } {
  const { compiler: ts, libraries } = loadCompiler();
  const contentOf = (name: string) =>
    name.startsWith(libraryFolder) ? libraries.get(name.slice(libraryFolder.length)) : ts.sys.readFile(name);
  const options = compilerOptions(ts, root);
  const host: ts.CompilerHost = {
    fileExists: (name) => (name.startsWith(libraryFolder) ? libraries.has(name.slice(libraryFolder.length)) : ts.sys.fileExists(name)),
    readFile: contentOf,
    getSourceFile(name, languageVersion) {
      const content = contentOf(name);
      if (content === undefined) return undefined;
      const known = parsed.get(name);
      if (known?.content === content) return known.file;
      const file = ts.createSourceFile(name, content, languageVersion, true);
      parsed.set(name, { content, file });
      return file;
    },
    getDefaultLibFileName: () => `${libraryFolder}lib.esnext.full.d.ts`,
    getDefaultLibLocation: () => libraryFolder.slice(0, -1),
    writeFile: () => undefined,
    getCurrentDirectory: () => dirname(root),
    getCanonicalFileName: (name) => name,
    useCaseSensitiveFileNames: () => true,
    getNewLine: () => '\n',
    directoryExists: (name) => ts.sys.directoryExists(name),
    getDirectories: (name) => ts.sys.getDirectories(name),
    ...(ts.sys.realpath && { realpath: ts.sys.realpath }),
  };
  const roots = options.types?.includes('node') ? [root] : [root, `${libraryFolder}runtime.d.ts`];
  const old = earlier?.root === root ? earlier.program : undefined;
  const program = ts.createProgram(roots, options, host, old);
  earlier = { root, program };
  return { ts, program };
}

/** The files a program was made of, the compiler's own libraries apart. */
export function filesOf(program: ts.Program): string[] {
  return program
    .getSourceFiles()
    .map((each) => each.fileName)
    .filter((name) => !name.startsWith(libraryFolder));
}

/** True for what the language, the browser or Node declares. */
export function isLibraryFile(file: ts.SourceFile): boolean {
  return file.hasNoDefaultLib || file.fileName.startsWith(libraryFolder) || /[\\/]@types[\\/]node[\\/]/.test(file.fileName);
}

/**
 * The file that holds the types of a module or a package: a declaration beside the script, or the file itself.
 * @param name a path, or a package's name as an import would write it
 */
export function typesOf(name: string, from: string): string | undefined {
  if (!isPackageName(name)) {
    const declared = name.replace(/\.([cm]?)jsx?$/, '.d.$1ts');
    return declared !== name && existsSync(declared) ? declared : name;
  }
  const { compiler: ts } = loadCompiler();
  const options: ts.CompilerOptions = { module: ts.ModuleKind.ESNext, moduleResolution: ts.ModuleResolutionKind.Bundler, allowJs: true };
  return ts.resolveModuleName(name, join(from, 'entry.ts'), options, ts.sys).resolvedModule?.resolvedFileName;
}

function compilerOptions(ts: Compiler, root: string): ts.CompilerOptions {
  const options = projectOptions(ts, root);
  const text = readFileSync(root, 'utf8');
  const wantsNode = /['"]node:|\bBuffer\b|\bNodeJS\b|['"](?:fs|path|url|buffer|stream|http|crypto)['"]/.test(text);
  return {
    ...options,
    // A module may name our own types where this package is not installed beside it.
    paths: { jexo: [packageFile('dist/types/index.d.ts')], ...options.paths },
    types: options.types ?? (wantsNode && hasNodeTypes(dirname(root)) ? ['node'] : []),
    lib: ['lib.esnext.full.d.ts'],
    strict: options.strict ?? true,
    target: ts.ScriptTarget.ESNext,
    module: ts.ModuleKind.ESNext,
    moduleResolution: ts.ModuleResolutionKind.Bundler,
    allowImportingTsExtensions: true,
    allowJs: true,
    checkJs: true,
    maxNodeModuleJsDepth: 0,
    noEmit: true,
    skipLibCheck: true,
    skipDefaultLibCheck: true,
    incremental: false,
    composite: false,
    declaration: false,
    noLib: false,
  };
}

function hasNodeTypes(from: string): boolean {
  for (let folder = from; ; folder = dirname(folder)) {
    if (existsSync(join(folder, 'node_modules', '@types', 'node'))) return true;
    if (folder === dirname(folder)) return false;
  }
}

/** The project's own options matter where they change what types mean: strictness, paths, JSX. Options this compiler does not know are passed over. */
function projectOptions(ts: Compiler, root: string): ts.CompilerOptions {
  const config = ts.findConfigFile(dirname(root), ts.sys.fileExists);
  if (config === undefined) return {};
  const read = ts.readConfigFile(config, ts.sys.readFile);
  if (read.config === undefined) return {};
  const narrow = { ...(read.config as object), files: [root], include: undefined };
  const parsedConfig = ts.parseJsonConfigFileContent(narrow, ts.sys, dirname(config));
  const { strict, strictNullChecks, exactOptionalPropertyTypes, paths, baseUrl, jsx, types, customConditions, pathsBasePath } =
    parsedConfig.options;
  const kept = { strict, strictNullChecks, exactOptionalPropertyTypes, paths, baseUrl, jsx, types, customConditions, pathsBasePath };
  return Object.fromEntries(Object.entries(kept).filter(([, value]) => value !== undefined));
}

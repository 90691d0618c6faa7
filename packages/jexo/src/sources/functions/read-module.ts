import { existsSync, readFileSync } from 'node:fs';
import { dirname, join, relative, resolve } from 'node:path';
import type ts from 'typescript';
import type { Omission } from '../../offers/offer.js';
import type { JsonSchema } from '../../protocol/types.js';
import { loadCompiler, type Compiler } from './compiler.js';
import { readFunctionDoc, type Documented, type FunctionDoc } from './doc-comment.js';
import type { FunctionShape, ModuleShape, ParameterShape, Revive } from './shape.js';
import { snakeCase } from './snake-case.js';
import { createTypeReader, Unreadable, withDoc, type Converted } from './type-schema.js';

export interface ReadModule extends ModuleShape {
  /** The files the shapes depend on, the compiler's own libraries apart. */
  readonly files: readonly string[];
}

/** Reads the exported functions of a module from its types. Nothing of the module is run. */
export function readModule(file: string): ReadModule {
  const { compiler: ts, libraries } = loadCompiler();
  const root = resolve(file);
  const program = createProgram(ts, libraries, root);
  const checker = program.getTypeChecker();
  const source = program.getSourceFile(root);
  const moduleSymbol = source && checker.getSymbolAtLocation(source);
  const functions: FunctionShape[] = [];
  const omitted: Omission[] = [];
  if (source !== undefined && moduleSymbol !== undefined) {
    const base = dirname(root);
    for (const exported of checker.getExportsOfModule(moduleSymbol)) {
      const symbol = (exported.flags & ts.SymbolFlags.Alias) !== 0 ? checker.getAliasedSymbol(exported) : exported;
      const node = symbol.valueDeclaration ?? symbol.declarations?.[0];
      if (node === undefined || (symbol.flags & ts.SymbolFlags.Value) === 0) continue;
      const name = exported.getName();
      const type = checker.getTypeOfSymbolAtLocation(symbol, node);
      const where = placeOf(node, base);
      const signatures = type.getCallSignatures();
      if (signatures.length === 0) {
        if (type.getConstructSignatures().length > 0 && !name.startsWith('_')) {
          omitted.push({
            name,
            where,
            why: `the class ${name} is not a function`,
            next: 'Export a function that makes an instance and calls it.',
          });
        }
        continue;
      }
      const own = name === 'default' ? (nameOf(ts, node) ?? fileName(root)) : name;
      if (own.startsWith('_')) continue;
      try {
        const shape = readFunction(ts, checker, { name: own, exported: name, where, node, signatures });
        if (shape !== undefined) functions.push(shape);
      } catch (error) {
        if (!(error instanceof Unreadable)) throw error;
        omitted.push({ name: own, where, why: error.why, next: error.next });
      }
    }
  }
  const files = program
    .getSourceFiles()
    .map((each) => each.fileName)
    .filter((name) => !name.startsWith('/jexo-lib/'));
  return { functions, omitted, files };
}

function nameOf(ts: Compiler, node: ts.Node): string | undefined {
  return (ts.isFunctionDeclaration(node) || ts.isClassDeclaration(node)) && node.name !== undefined ? node.name.text : undefined;
}

function fileName(path: string): string {
  return path.replace(/^.*[\\/]/, '').replace(/\.[^.]+$/, '');
}

function placeOf(node: ts.Node, base: string): string {
  const source = node.getSourceFile();
  const { line } = source.getLineAndCharacterOfPosition(node.getStart());
  return `${relative(base, source.fileName)}:${line + 1}`;
}

interface Found {
  readonly name: string;
  readonly exported: string;
  readonly where: string;
  readonly node: ts.Node;
  readonly signatures: readonly ts.Signature[];
}

function readFunction(ts: Compiler, checker: ts.TypeChecker, found: Found): FunctionShape | undefined {
  const { node, signatures } = found;
  const reader = createTypeReader(ts, checker, node);
  // Of several overloads the widest is offered: it takes what the others take.
  const signature = signatures.reduce((widest, each) => (each.parameters.length > widest.parameters.length ? each : widest));
  const declaration = signature.getDeclaration();
  const documented = documentedNode(ts, declaration, node);
  const doc = readFunctionDoc(documented, ts);
  if (doc.tags.has('internal')) return undefined;

  const parameters: ParameterShape[] = [];
  const properties: Record<string, JsonSchema> = {};
  const required: string[] = [];
  let whole: JsonSchema | undefined;
  signature.parameters.forEach((symbol, index) => {
    const at = symbol.valueDeclaration;
    const parameter = at !== undefined && ts.isParameter(at) ? at : undefined;
    const type = checker.getTypeOfSymbolAtLocation(symbol, at ?? node);
    const injected = injectedKind(checker, type);
    if (injected !== undefined) return void parameters.push({ name: symbol.getName(), from: injected });
    const destructured = parameter !== undefined && ts.isObjectBindingPattern(parameter.name);
    const name = destructured ? `parameter ${index + 1}` : symbol.getName();
    const converted = about(name, () => reader.convert(type));
    if (destructured) {
      if (converted.schema.type !== 'object')
        throw new Unreadable(`${name}: is destructured but is not an object`, 'Give it an object type.');
      whole = mergeDestructured(ts, checker, parameter, converted.schema, doc);
      parameters.push({ name, from: 'whole-input', ...(converted.revive && { revive: converted.revive }) });
      return;
    }
    const rest = parameter?.dotDotDotToken !== undefined;
    const optional = rest || isOptional(ts, checker, symbol, parameter);
    properties[name] = describeParameter(ts, checker, converted, parameter, doc.parameters.get(name));
    if (!optional) required.push(name);
    parameters.push({ name, from: rest ? 'rest' : 'property', ...(converted.revive && { revive: converted.revive }) });
  });
  if (whole !== undefined && Object.keys(properties).length > 0) {
    throw new Unreadable(
      'has a destructured parameter beside others, so its fields have no place of their own',
      'Give the destructured parameter a name.',
    );
  }
  const input: JsonSchema = whole ?? {
    type: 'object',
    ...(Object.keys(properties).length > 0 && { properties }),
    ...(required.length > 0 && { required }),
  };
  const inputDefinitions = reader.takeDefinitions();

  const returned = about('the return value', () => readReturn(ts, checker, reader, signature));
  const outputDefinitions = reader.takeDefinitions();
  const wrapped = returned !== undefined && returned.schema.type !== 'object';
  const described = returned && withDoc(returned.schema, doc.returns, {});
  const output =
    described === undefined ? undefined : wrapped ? { type: 'object', properties: { result: described }, required: ['result'] } : described;
  const notes = signatures.length > 1 ? [`(The function has ${signatures.length} forms; this is the one that takes most.)`] : [];
  const description = [doc.description, ...notes].filter((part) => part !== undefined).join('\n');

  return {
    export: found.exported,
    name: snakeCase(found.name),
    where: found.where,
    ...(description !== '' && { description }),
    ...(doc.tags.get('title') && { title: doc.tags.get('title')! }),
    parameters,
    input: { ...input, additionalProperties: input.additionalProperties ?? false, ...(inputDefinitions && { $defs: inputDefinitions }) },
    ...(output !== undefined && { output: { ...output, ...(outputDefinitions && { $defs: outputDefinitions }) } }),
    wrapped,
    ...annotationsOf(doc),
  };
}

/** Our own tags: `@readOnly`, `@destructive`, `@idempotent`, `@openWorld` become the protocol's hints; `@tags a, b` groups. */
function annotationsOf(doc: FunctionDoc): Pick<FunctionShape, 'annotations' | 'tags'> {
  const hints: Record<string, string> = {
    readOnly: 'readOnlyHint',
    destructive: 'destructiveHint',
    idempotent: 'idempotentHint',
    openWorld: 'openWorldHint',
  };
  const annotations: Record<string, boolean> = {};
  for (const [tag, hint] of Object.entries(hints)) if (doc.tags.has(tag)) annotations[hint] = doc.tags.get(tag) !== 'false';
  const tags = doc.tags
    .get('tags')
    ?.split(/[\s,]+/)
    .filter((tag) => tag !== '');
  return { ...(Object.keys(annotations).length > 0 && { annotations }), ...(tags !== undefined && tags.length > 0 && { tags }) };
}

/** The comment of `export const mix = () => …` stands above the statement, not the arrow. */
function documentedNode(ts: Compiler, declaration: ts.SignatureDeclaration | undefined, node: ts.Node): ts.Node {
  if (declaration === undefined) return node;
  const { parent } = declaration;
  return parent !== undefined && ts.isVariableDeclaration(parent) ? parent : declaration;
}

function about<T>(name: string, read: () => T): T {
  try {
    return read();
  } catch (error) {
    if (!(error instanceof Unreadable)) throw error;
    const nested = /^\((\.[^)]*)\) (.*)$/s.exec(error.why);
    throw nested === null
      ? new Unreadable(`${name} ${error.why}`, error.next)
      : new Unreadable(`${name}${nested[1]} ${nested[2]}`, error.next);
  }
}

function injectedKind(checker: ts.TypeChecker, type: ts.Type): 'signal' | 'call' | undefined {
  const name = checker.getNonNullableType(type).symbol?.getName();
  return name === 'AbortSignal' ? 'signal' : name === 'Call' ? 'call' : undefined;
}

function isOptional(ts: Compiler, checker: ts.TypeChecker, symbol: ts.Symbol, parameter: ts.ParameterDeclaration | undefined): boolean {
  if (parameter === undefined) return (symbol.flags & ts.SymbolFlags.Optional) !== 0;
  return checker.isOptionalParameter(parameter) || parameter.initializer !== undefined;
}

function describeParameter(
  ts: Compiler,
  checker: ts.TypeChecker,
  { schema }: Converted,
  parameter: ts.ParameterDeclaration | undefined,
  doc: Documented | undefined,
): JsonSchema {
  const initial = parameter?.initializer === undefined ? undefined : literalValue(ts, checker, parameter.initializer);
  const described = withDoc(schema, doc?.description, doc?.keywords ?? {});
  return initial === undefined ? described : { ...described, default: initial.value };
}

/** The value of an initialiser that is written out; anything computed has none. */
function literalValue(ts: Compiler, checker: ts.TypeChecker, node: ts.Expression): { readonly value: unknown } | undefined {
  if (ts.isStringLiteralLike(node)) return { value: node.text };
  if (ts.isNumericLiteral(node)) return { value: Number(node.text) };
  if (node.kind === ts.SyntaxKind.TrueKeyword) return { value: true };
  if (node.kind === ts.SyntaxKind.FalseKeyword) return { value: false };
  if (node.kind === ts.SyntaxKind.NullKeyword) return { value: null };
  if (ts.isAsExpression(node) || ts.isSatisfiesExpression(node) || ts.isParenthesizedExpression(node))
    return literalValue(ts, checker, node.expression);
  if (ts.isPrefixUnaryExpression(node) && node.operator === ts.SyntaxKind.MinusToken) {
    const operand = literalValue(ts, checker, node.operand);
    return typeof operand?.value === 'number' ? { value: -operand.value } : undefined;
  }
  if (ts.isArrayLiteralExpression(node)) {
    const items = node.elements.map((element) => literalValue(ts, checker, element));
    return items.every((item) => item !== undefined) ? { value: items.map((item) => item.value) } : undefined;
  }
  if (ts.isObjectLiteralExpression(node)) {
    const entries: [string, unknown][] = [];
    for (const property of node.properties) {
      if (!ts.isPropertyAssignment(property) || !(ts.isIdentifier(property.name) || ts.isStringLiteral(property.name))) return undefined;
      const value = literalValue(ts, checker, property.initializer);
      if (value === undefined) return undefined;
      entries.push([property.name.text, value.value]);
    }
    return { value: Object.fromEntries(entries) };
  }
  if (ts.isPropertyAccessExpression(node) || ts.isElementAccessExpression(node)) {
    const constant = checker.getConstantValue(node);
    return constant === undefined ? undefined : { value: constant };
  }
  return undefined;
}

/** `({ hive, frames = 10 }: Options)`: the fields are the input itself, with the defaults written in the pattern. */
function mergeDestructured(
  ts: Compiler,
  checker: ts.TypeChecker,
  parameter: ts.ParameterDeclaration,
  schema: JsonSchema,
  doc: FunctionDoc,
): JsonSchema {
  const properties = { ...(schema.properties as Record<string, JsonSchema> | undefined) };
  let required = (schema.required as string[] | undefined) ?? [];
  for (const element of (parameter.name as ts.ObjectBindingPattern).elements) {
    const bound = element.propertyName ?? element.name;
    if (!ts.isIdentifier(bound) || properties[bound.text] === undefined) continue;
    const name = bound.text;
    const documented = [...doc.parameters].find(([key]) => key === name || key.endsWith(`.${name}`))?.[1];
    if (documented) properties[name] = withDoc(properties[name]!, documented.description, documented.keywords);
    const initial = element.initializer;
    if (initial === undefined) continue;
    required = required.filter((each) => each !== name);
    const value = literalValue(ts, checker, initial);
    if (value !== undefined) properties[name] = { ...properties[name]!, default: value.value };
  }
  const { required: _, ...rest } = schema;
  return { ...rest, properties, ...(required.length > 0 && parameter.initializer === undefined && { required }) };
}

function readReturn(
  ts: Compiler,
  checker: ts.TypeChecker,
  reader: ReturnType<typeof createTypeReader>,
  signature: ts.Signature,
): { schema: JsonSchema; revive?: Revive } | undefined {
  const returned = signature.getReturnType();
  const type = checker.getAwaitedType(returned) ?? returned;
  const empty = ts.TypeFlags.Void | ts.TypeFlags.Undefined | ts.TypeFlags.Never;
  if ((type.flags & empty) !== 0) return undefined;
  return reader.convert(type);
}

function createProgram(ts: Compiler, libraries: ReadonlyMap<string, string>, root: string): ts.Program {
  const text = readFileSync(root, 'utf8');
  const options = projectOptions(ts, root);
  const wantsNode = /['"]node:|\bBuffer\b|\bNodeJS\b|['"](?:fs|path|url|buffer|stream|http|crypto)['"]/.test(text);
  const types = options.types ?? (wantsNode && hasNodeTypes(dirname(root)) ? ['node'] : []);
  const withoutNode = !types.includes('node');
  const final: ts.CompilerOptions = {
    ...options,
    types,
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
  const host: ts.CompilerHost = {
    fileExists: (name) => libraries.has(libraryName(name)) || ts.sys.fileExists(name),
    readFile: (name) => libraries.get(libraryName(name)) ?? ts.sys.readFile(name),
    getSourceFile(name, languageVersion) {
      const content = libraries.get(libraryName(name)) ?? ts.sys.readFile(name);
      return content === undefined ? undefined : ts.createSourceFile(name, content, languageVersion, true);
    },
    getDefaultLibFileName: () => '/jexo-lib/lib.esnext.full.d.ts',
    getDefaultLibLocation: () => '/jexo-lib',
    writeFile: () => undefined,
    getCurrentDirectory: () => dirname(root),
    getCanonicalFileName: (name) => name,
    useCaseSensitiveFileNames: () => true,
    getNewLine: () => '\n',
    directoryExists: (name) => ts.sys.directoryExists(name),
    getDirectories: (name) => ts.sys.getDirectories(name),
    ...(ts.sys.realpath && { realpath: ts.sys.realpath }),
  };
  const roots = withoutNode ? [root, '/jexo-lib/runtime.d.ts'] : [root];
  return ts.createProgram(roots, final, host);
}

function libraryName(path: string): string {
  return path.startsWith('/jexo-lib/') ? path.slice('/jexo-lib/'.length) : '';
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
  const parsed = ts.parseJsonConfigFileContent(narrow, ts.sys, dirname(config));
  const { strict, strictNullChecks, exactOptionalPropertyTypes, paths, baseUrl, jsx, types, customConditions, pathsBasePath } =
    parsed.options;
  const kept = { strict, strictNullChecks, exactOptionalPropertyTypes, paths, baseUrl, jsx, types, customConditions, pathsBasePath };
  return Object.fromEntries(Object.entries(kept).filter(([, value]) => value !== undefined));
}

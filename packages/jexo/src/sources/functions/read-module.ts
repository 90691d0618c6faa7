import { dirname, relative, resolve } from 'node:path';
import type ts from 'typescript';
import type { Compiler } from './compiler.js';
import { isPackageName } from './package-name.js';
import { createProgram, filesOf, isLibraryFile, typesOf } from './program.js';
import { readFunction, type Callable } from './read-function.js';
import type { FunctionShape, ModuleShape, UnreadableExport } from './shape.js';
import { Unreadable } from './converted.js';
import { JexoError } from '../../errors.js';

export interface ReadModule extends ModuleShape {
  /** The files the shapes depend on, the compiler's own libraries apart. */
  readonly files: readonly string[];
}

/**
 * Reads the exported functions of a module from its types. Nothing of the module is run.
 *
 * @param name a file, or the name of an installed package
 * @param from the folder a package is looked for from
 * @throws JexoError JEXO_TARGET_MISSING, JEXO_TYPE_UNREADABLE
 */
export function readModule(name: string, from = process.cwd()): ReadModule {
  const found = typesOf(isPackageName(name) ? name : resolve(from, name), from);
  if (found === undefined)
    throw new JexoError('JEXO_TYPE_UNREADABLE', `The package ${name} has no types that Jexo could find from ${from}.`, {
      where: name,
      next: `Install it, and its types when they come apart: npm install ${name} @types/${name.replace(/^@(.+)\//, '$1__')}`,
    });
  const { ts, program } = createProgram(found);
  const checker = program.getTypeChecker();
  const source = program.getSourceFile(found);
  const moduleSymbol = source && checker.getSymbolAtLocation(source);
  const functions: FunctionShape[] = [];
  const omitted: UnreadableExport[] = [];
  if (source !== undefined && moduleSymbol !== undefined) {
    const place = placer(source);
    const taken = new Set<string>();
    for (const callable of callables(ts, checker, moduleSymbol, source, place, omitted)) {
      // One function exported twice, by its name and as a part of the default export, is one offer.
      const key = callable.member === undefined || callable.alone ? callable.name : `${callable.name}.${callable.member}`;
      if (taken.has(key)) continue;
      try {
        const shape = readFunction(ts, checker, callable, (part, { why, next }) =>
          omitted.push({
            name: `${callable.name} ${part}`,
            where: callable.where,
            why: `${part} ${why}; it is offered without it`,
            next,
            partial: true,
          }),
        );
        if (shape === undefined) continue;
        taken.add(key);
        functions.push(shape);
      } catch (error) {
        if (!(error instanceof Unreadable)) throw error;
        omitted.push({ name: key, where: callable.where, why: error.why, next: error.next });
      }
    }
  }
  return { functions, omitted, files: filesOf(program) };
}

/** Names a place by its file and line: from the folder of the module, or from the package it belongs to. */
function placer(root: ts.SourceFile): (node: ts.Node) => string {
  const base = dirname(root.fileName);
  return (node) => {
    const file = node.getSourceFile();
    const { line } = file.getLineAndCharacterOfPosition(node.getStart());
    const inPackage = /[\\/]node_modules[\\/](?!.*[\\/]node_modules[\\/])(.+)$/.exec(file.fileName)?.[1];
    return `${inPackage ?? relative(base, file.fileName)}:${line + 1}`;
  };
}

/** All that can be called of a module: its functions, the functions of its objects, the methods of its classes. */
function* callables(
  ts: Compiler,
  checker: ts.TypeChecker,
  module: ts.Symbol,
  source: ts.SourceFile,
  place: (node: ts.Node) => string,
  omitted: UnreadableExport[],
): Generator<Callable> {
  // What is exported one by one comes first; the default export may only gather the same functions.
  const exported = [...checker.getExportsOfModule(module)].sort((a, b) => Number(a.name === 'default') - Number(b.name === 'default'));
  const whole = module.exports?.get(ts.InternalSymbolName.ExportEquals);
  for (const each of whole === undefined ? exported : [whole, ...exported]) {
    const symbol = (each.flags & ts.SymbolFlags.Alias) !== 0 ? checker.getAliasedSymbol(each) : each;
    const node = symbol.valueDeclaration ?? symbol.declarations?.[0];
    if (node === undefined || (symbol.flags & ts.SymbolFlags.Value) === 0) continue;
    const exportName = each === whole ? 'default' : each.getName();
    const own = exportName === 'default' ? (nameOf(ts, node) ?? fileName(source.fileName)) : exportName;
    if (own.startsWith('_')) continue;
    const type = checker.getTypeOfSymbolAtLocation(symbol, node);
    const where = place(node);
    const signatures = type.getCallSignatures();
    const constructors = type.getConstructSignatures();
    if (isInternal(ts, node)) continue;
    if (signatures.length > 0 && (constructors.length === 0 || !isClass(symbol))) {
      yield { name: own, exported: exportName, where, node, signatures };
      continue;
    }
    const isOurs = (declaration: ts.Declaration) => !isLibraryFile(declaration.getSourceFile()) && sharesPackage(declaration, node);
    if (isClass(symbol) && ts.isClassLike(node)) {
      const needed = constructors.some((each) => each.parameters.every((parameter) => isOptionalParameter(ts, checker, parameter)));
      const isAbstract = (ts.getCombinedModifierFlags(node) & ts.ModifierFlags.Abstract) !== 0;
      const instance = checker.getDeclaredTypeOfSymbol(symbol);
      const methods = [...methodsOf(ts, checker, instance, node, isOurs)];
      for (const [member, declaration, found] of methodsOf(ts, checker, type, node, isOurs))
        yield { name: own, exported: exportName, member, where: place(declaration), node: declaration, signatures: found };
      if (methods.length > 0 && isAbstract)
        omitted.push({ name: own, where, why: `the class ${own} is abstract`, next: 'Export a class that extends it.' });
      else
        for (const [member, declaration, found] of methods)
          yield {
            name: own,
            exported: exportName,
            member,
            needsInstance: true,
            makesItself: needed,
            where: place(declaration),
            node: declaration,
            signatures: found,
          };
      continue;
    }
    // An object of functions, or an instance; whatever comes from elsewhere was hardly meant to be offered.
    const declared = type.symbol?.declarations?.[0];
    if (
      declared === undefined ||
      !isOurs(declared) ||
      !(
        ts.isObjectLiteralExpression(declared) ||
        ts.isClassLike(declared) ||
        ts.isModuleDeclaration(declared) ||
        ts.isSourceFile(declared) ||
        exportName === 'default'
      )
    )
      continue;
    for (const [member, declaration, found] of methodsOf(ts, checker, type, node, isOurs)) {
      const flat = exportName === 'default';
      yield {
        name: flat ? member : own,
        ...(flat && { alone: true }),
        exported: exportName,
        member,
        where: place(declaration),
        node: declaration,
        signatures: found,
      };
    }
  }

  function isClass(symbol: ts.Symbol): boolean {
    return (symbol.flags & ts.SymbolFlags.Class) !== 0;
  }
}

function* methodsOf(
  ts: Compiler,
  checker: ts.TypeChecker,
  type: ts.Type,
  at: ts.Node,
  isOurs: (declaration: ts.Declaration) => boolean,
): Generator<readonly [string, ts.Declaration, readonly ts.Signature[]]> {
  for (const property of checker.getPropertiesOfType(type)) {
    const name = property.getName();
    const symbol = (property.flags & ts.SymbolFlags.Alias) !== 0 ? checker.getAliasedSymbol(property) : property;
    const declaration = symbol.valueDeclaration ?? symbol.declarations?.[0];
    if (
      declaration === undefined ||
      name.startsWith('_') ||
      name.startsWith('#') ||
      name === 'prototype' ||
      name === 'toString' ||
      name === 'toJSON'
    )
      continue;
    if ((ts.getCombinedModifierFlags(declaration) & (ts.ModifierFlags.Private | ts.ModifierFlags.Protected)) !== 0) continue;
    if (!isOurs(declaration) || isInternal(ts, declaration) || ts.isAccessor(declaration)) continue;
    const signatures = checker.getTypeOfSymbolAtLocation(property, at).getCallSignatures();
    if (signatures.length > 0) yield [name, declaration, signatures];
  }
}

/** Two declarations of one package, or of the project outside all packages. */
function sharesPackage(a: ts.Declaration, b: ts.Node): boolean {
  const packageOf = (file: string) => /^(.*[\\/]node_modules[\\/](?:@[^\\/]+[\\/])?[^\\/]+)[\\/]/.exec(file)?.[1] ?? '';
  return packageOf(a.getSourceFile().fileName) === packageOf(b.getSourceFile().fileName);
}

function isInternal(ts: Compiler, node: ts.Node): boolean {
  return ts.getJSDocTags(node).some(({ tagName }) => tagName.text === 'internal' || tagName.text === 'hidden');
}

function isOptionalParameter(ts: Compiler, checker: ts.TypeChecker, symbol: ts.Symbol): boolean {
  const declaration = symbol.valueDeclaration;
  if (declaration === undefined || !ts.isParameter(declaration)) return (symbol.flags & ts.SymbolFlags.Optional) !== 0;
  return checker.isOptionalParameter(declaration) || declaration.initializer !== undefined || declaration.dotDotDotToken !== undefined;
}

function nameOf(ts: Compiler, node: ts.Node): string | undefined {
  return (ts.isFunctionDeclaration(node) || ts.isClassDeclaration(node)) && node.name !== undefined ? node.name.text : undefined;
}

function fileName(path: string): string {
  const name = path.replace(/^.*[\\/]/, '').replace(/(?:\.d)?\.[^.]+$/, '');
  return name === 'index' ? path.replace(/[\\/][^\\/]*$/, '').replace(/^.*[\\/]/, '') : name;
}

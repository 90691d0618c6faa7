import { dirname, join } from 'node:path';
import type ts from 'typescript';
import { isRecord } from '../../protocol/is-record.js';
import type { JsonSchema, TaskSupport } from '../../protocol/types.js';
import type { Compiler } from './compiler.js';
import { readFunctionDoc, type Documented, type FunctionDoc } from './doc-comment.js';
import { literalValue } from './literal-value.js';
import { isLibraryFile } from './program.js';
import type { FunctionShape, ParameterShape, ReturnShape } from './shape.js';
import { snakeCase } from './snake-case.js';
import { orNull, Unreadable, type Converted, type Definitions } from './converted.js';
import { asyncLists } from './library-types.js';
import { TypeConverter } from './type-converter.js';
import { withDoc } from './with-doc.js';

/** Something that can be called, as found among the exports of a module. */
export interface Callable {
  /** The name it goes by: its own, or that of the object or class it belongs to. */
  readonly name: string;
  readonly exported: string;
  readonly member?: string;
  /** True when `name` is the member's own already. */
  readonly alone?: boolean;
  readonly needsInstance?: boolean;
  readonly makesItself?: boolean;
  readonly where: string;
  readonly node: ts.Node;
  readonly signatures: readonly ts.Signature[];
}

type LeftOut = (part: string, problem: Unreadable) => void;

/** One parameter as it is offered: that of one signature, or of all overloads at the same place. */
interface Slot {
  readonly name: string;
  readonly type: ts.Type;
  readonly parameter: ts.ParameterDeclaration | undefined;
  readonly optional: boolean;
  readonly doc: Documented | undefined;
}

/** What is read as one function: one signature, or the union of several. */
interface Form {
  readonly slots: readonly Slot[];
  readonly returned: ts.Type;
  readonly doc: FunctionDoc;
  readonly declaration: ts.SignatureDeclaration | undefined;
  /** What a reader should know of the other forms. */
  readonly note: string | undefined;
}

/**
 * Reads one function. Of several overloads the union is offered: what any of them takes at a place, required where every one of them
 * requires it. Where that cannot be expressed, one overload is: the one that takes most, or the next that can be.
 * @throws Unreadable
 */
export function readFunction(ts: Compiler, checker: ts.TypeChecker, found: Callable, onOmitted: LeftOut): FunctionShape | undefined {
  const inOrder = widestFirst(checker, found);
  let first: unknown;
  const attempt = (form: Form | undefined): { readonly shape: FunctionShape | undefined; readonly tell: () => void } | undefined => {
    if (form === undefined) return undefined;
    const leftOut: Parameters<LeftOut>[] = [];
    try {
      const shape = readForm(ts, checker, found, form, (...problem) => leftOut.push(problem));
      return { shape, tell: () => leftOut.forEach((problem) => onOmitted(...problem)) };
    } catch (error) {
      if (!(error instanceof Unreadable)) throw error;
      first ??= error;
      return undefined;
    }
  };
  const each = inOrder.flatMap((signature) => {
    const read = attempt(formOf(ts, checker, found, signature));
    return read === undefined ? [] : [{ ...read, signature }];
  });
  const usable = each.filter(({ shape }) => shape !== undefined).map(({ signature }) => signature);
  const read = (usable.length > 1 ? attempt(unionOf(ts, checker, found, usable)) : undefined) ?? each[0];
  if (read === undefined) throw first;
  read.tell();
  return read.shape;
}

/** Sorts overloads: more parameters first; of equally many, the one whose parameters take all that the others' take. */
function widestFirst(checker: ts.TypeChecker, { node, signatures }: Callable): readonly ts.Signature[] {
  if (signatures.length === 1) return signatures;
  const typeAt = (signature: ts.Signature, index: number) => checker.getTypeOfSymbolAtLocation(signature.parameters[index]!, node);
  const takes = (wide: ts.Signature, narrow: ts.Signature) =>
    narrow.parameters.every((_, index) => checker.isTypeAssignableTo(typeAt(narrow, index), typeAt(wide, index)));
  return [...signatures].sort((a, b) => {
    const more = b.parameters.length - a.parameters.length;
    if (more !== 0) return more;
    return Number(takes(b, a)) - Number(takes(a, b));
  });
}

function declarationOf(signature: ts.Signature): ts.SignatureDeclaration | undefined {
  return signature.getDeclaration() as ts.SignatureDeclaration | undefined;
}

function formOf(ts: Compiler, checker: ts.TypeChecker, found: Callable, signature: ts.Signature): Form {
  const { node, signatures } = found;
  const declaration = declarationOf(signature);
  const doc = docOf(ts, declaration, node);
  const slots = signature.parameters.map((symbol): Slot => {
    const parameter = parameterOf(ts, symbol);
    return {
      name: symbol.getName(),
      type: checker.getTypeOfSymbolAtLocation(symbol, parameter ?? node),
      parameter,
      optional: parameter?.dotDotDotToken !== undefined || isOptional(ts, checker, symbol, parameter),
      doc: doc.parameters.get(symbol.getName()),
    };
  });
  const note = otherForms(ts, checker, signatures, signature, found);
  return { slots, returned: awaited(checker, signature), doc, declaration, note };
}

/** The compiler makes unions by this method of its checker, which its types do not show. */
interface MakesUnions {
  getUnionType(types: readonly ts.Type[]): ts.Type;
}

/** All overloads as one form; undefined where a place holds a rest, a pattern or something that is handed in. */
function unionOf(ts: Compiler, checker: ts.TypeChecker, found: Callable, inOrder: readonly ts.Signature[]): Form | undefined {
  const forms = inOrder.map((signature) => formOf(ts, checker, found, signature));
  const isPlain = ({ parameter, type }: Slot) =>
    parameter !== undefined &&
    parameter.dotDotDotToken === undefined &&
    ts.isIdentifier(parameter.name) &&
    injectedKind(checker, type, parameter) === undefined;
  if (!forms.every(({ slots }) => slots.every(isPlain))) return undefined;
  const unite = (types: readonly ts.Type[]) => (checker as unknown as MakesUnions).getUnionType(types);
  const [widest] = forms as [Form];
  const slots = widest.slots.map((own, index): Slot => {
    const at = forms.flatMap(({ slots: each }) => each.slice(index, index + 1));
    const others = [...new Set(at.map(({ name }) => name))].filter((name) => name !== own.name);
    const doc = at.find((each) => each.doc !== undefined)?.doc;
    const also = others.length === 0 ? undefined : `Or ${others.join(', ')}, by the form.`;
    const said = doc?.description?.replace(/(?<![.!?])$/, also === undefined ? '' : '.');
    const words = [said, also].filter((part) => part !== undefined).join(' ');
    return {
      name: own.name,
      parameter: own.parameter,
      type: unite(at.map(({ type }) => type)),
      optional: at.length < forms.length || at.some(({ optional }) => optional),
      doc: words === '' ? doc : { keywords: {}, ...doc, description: words },
    };
  });
  const doc = forms.find((each) => each.doc.description !== undefined)?.doc ?? widest.doc;
  const note = `It has ${found.signatures.length} forms:\n${formLines(ts, checker, found.signatures, found).join('\n')}`;
  return { slots, returned: unite(forms.map(({ returned }) => returned)), doc, declaration: widest.declaration, note };
}

function awaited(checker: ts.TypeChecker, signature: ts.Signature): ts.Type {
  const returned = signature.getReturnType();
  return checker.getAwaitedType(returned) ?? returned;
}

function parameterOf(ts: Compiler, symbol: ts.Symbol): ts.ParameterDeclaration | undefined {
  const at = symbol.valueDeclaration;
  return at !== undefined && ts.isParameter(at) ? at : undefined;
}

function readForm(ts: Compiler, checker: ts.TypeChecker, found: Callable, form: Form, onOmitted: LeftOut): FunctionShape | undefined {
  const { node } = found;
  const { doc, declaration } = form;
  if (doc.tags.has('internal') || doc.tags.has('hidden')) return undefined;
  refuseThis(ts, checker, found, declaration);

  const { parameters, input, definitions } = readParameters(ts, checker, form, node, onOmitted);
  const { output, returns, mimeType } = readReturn(ts, checker, form, node);
  const kind = kindOf(doc);
  const uri = doc.tags.get('resource');
  const description = [doc.description, form.note].filter((part) => part !== undefined).join('\n');
  const examples = doc.examples.flatMap((text) => readExample(ts, text, found.member ?? found.name, parameters));
  const icon = doc.tags.get('icon');
  const confirm = doc.tags.get('confirm');
  const task = doc.tags.get('task');
  const retry = readRetry(doc.tags.get('retry'));

  return {
    export: found.exported,
    ...(found.member !== undefined && { member: found.member }),
    ...(found.needsInstance && { needsInstance: true }),
    ...(found.needsInstance && found.makesItself && { makesItself: true }),
    kind,
    ...(uri && { uri }),
    ...(mimeType !== undefined && { mimeType }),
    name: doc.tags.get('as') || snakeCase(found.member === undefined || found.alone ? found.name : `${found.name}_${found.member}`),
    where: found.where,
    ...(description !== '' && { description }),
    ...(doc.tags.get('title') && { title: doc.tags.get('title')! }),
    ...(icon && { icons: [{ src: icon }] }),
    parameters,
    input: {
      ...input,
      additionalProperties: input.additionalProperties ?? false,
      ...(examples.length > 0 && { examples }),
      ...(definitions.schemas && { $defs: definitions.schemas }),
    },
    ...(definitions.revives && { revives: definitions.revives }),
    ...(output !== undefined && { output }),
    returns,
    ...annotationsOf(doc),
    ...(task !== undefined && { taskSupport: (task === 'required' ? 'required' : 'optional') satisfies TaskSupport }),
    ...(retry !== undefined && { taskRetry: { times: retry } }),
    ...(confirm && { confirm }),
    ...readView(doc, (declaration ?? node).getSourceFile().fileName),
  };
}

/** @throws Unreadable */
function readView({ tags }: FunctionDoc, file: string): Pick<FunctionShape, 'view' | 'visibleTo'> {
  const [path, visible] = [tags.get('view'), tags.get('visibleTo')];
  if (path === '' || path?.includes(' '))
    throw new Unreadable('is tagged @view without a path', 'Name the page, or the folder of an app: @view ./hive-weight.html');
  if (visible !== undefined && visible !== 'view' && visible !== 'model')
    throw new Unreadable(`is visible to ${visible || 'nobody'}`, 'Say who may call it: @visibleTo view, or @visibleTo model');
  return { ...(path !== undefined && { view: join(dirname(file), path) }), ...(visible !== undefined && { visibleTo: visible }) };
}

/** @throws Unreadable */
function readRetry(text: string | undefined): number | undefined {
  if (text === undefined) return undefined;
  if (!/^[1-9]\d?$/.test(text)) throw new Unreadable('is tagged @retry without a number', 'Say how often it is run again, as in @retry 3');
  return Number(text);
}

function kindOf({ tags }: FunctionDoc): FunctionShape['kind'] {
  const uri = tags.get('resource');
  if (uri !== undefined) {
    if (uri === '')
      throw new Unreadable('is tagged @resource without a URI', 'Write the URI behind the tag, as in @resource hive://{hive}');
    return uri.includes('{') ? 'template' : 'resource';
  }
  return tags.has('prompt') ? 'prompt' : 'tool';
}

/** A function that is called by itself has no `this`; one that declares to need it cannot be offered alone. */
function refuseThis(ts: Compiler, checker: ts.TypeChecker, found: Callable, declaration: ts.SignatureDeclaration | undefined): void {
  const own = declaration?.parameters.find((parameter) => parameter.name.getText() === 'this');
  if (own === undefined || found.member !== undefined) return;
  const type = checker.getTypeAtLocation(own);
  if ((type.flags & (ts.TypeFlags.Void | ts.TypeFlags.Undefined | ts.TypeFlags.Any | ts.TypeFlags.Unknown)) !== 0) return;
  throw new Unreadable(
    `needs a this of the type ${checker.typeToString(type)}, and a tool is called by itself`,
    'Wrap it in a function that calls it on the right object.',
  );
}

/** What the other overloads take, in a line each, with the first sentence of their own comment. */
function otherForms(
  ts: Compiler,
  checker: ts.TypeChecker,
  signatures: readonly ts.Signature[],
  offered: ts.Signature,
  found: Callable,
): string | undefined {
  if (signatures.length === 1) return undefined;
  const lines = formLines(
    ts,
    checker,
    signatures.filter((each) => each !== offered),
    found,
  );
  return `The function has ${signatures.length} forms; this one takes most. The others:\n${lines.join('\n')}`;
}

function formLines(ts: Compiler, checker: ts.TypeChecker, signatures: readonly ts.Signature[], { name, member }: Callable): string[] {
  return signatures.map((each) => {
    const [first] = ts.displayPartsToString(each.getDocumentationComment(checker)).split(/(?<=[.!?])\s|\n/);
    return `- ${member ?? name}${checker.signatureToString(each)}${first ? `: ${first}` : ''}`;
  });
}

interface ReadParameters {
  readonly parameters: readonly ParameterShape[];
  readonly input: JsonSchema;
  readonly definitions: Definitions;
}

function readParameters(ts: Compiler, checker: ts.TypeChecker, { slots, doc }: Form, node: ts.Node, onOmitted: LeftOut): ReadParameters {
  const parameters: ParameterShape[] = [];
  const properties: Record<string, JsonSchema> = {};
  const required: string[] = [];
  let whole: JsonSchema | undefined;
  let current = '';
  const reader = new TypeConverter(ts, checker, node, 'in', (path, problem) => onOmitted(`${current}${path}`, problem));
  const given = slots.filter(({ type, parameter }) => injectedKind(checker, type, parameter) === undefined);
  for (const { name: own, type, parameter, optional, doc: documented } of slots) {
    const injected = injectedKind(checker, type, parameter);
    if (injected !== undefined) {
      parameters.push({ name: own, from: injected });
      continue;
    }
    // A pattern has no name. By itself its fields are the input; beside others it is what such a parameter is mostly called.
    const pattern = parameter !== undefined && !ts.isIdentifier(parameter.name);
    const destructured = pattern && given.length === 1 && ts.isObjectBindingPattern(parameter.name);
    const name = destructured ? 'the destructured parameter' : pattern ? freeName(properties) : own;
    const rest = parameter?.dotDotDotToken !== undefined;
    current = name;
    let converted: Converted;
    try {
      converted = about(name, () => reader.convertRoot(type, !optional));
    } catch (error) {
      if (!(error instanceof Unreadable) || !optional) throw error;
      // An optional part that cannot be expressed is omitted; the function is still offered.
      onOmitted(name, new Unreadable(error.why.replace(`${name} `, ''), error.next));
      parameters.push({ name, from: 'nothing' });
      continue;
    }
    // An object of which nothing could be expressed has nothing to give.
    if (optional && isEmptyObject(converted.schema)) {
      parameters.push({ name, from: 'nothing' });
      continue;
    }
    const revive = converted.revive && { revive: converted.revive };
    if (destructured) {
      if (converted.schema.type !== 'object')
        throw new Unreadable(`${name} is not an object with fields of its own`, 'Give it an object type.');
      whole = mergeDestructured(ts, checker, parameter, converted.schema, doc);
      parameters.push({ name, from: 'whole-input', ...revive });
      continue;
    }
    const nested = documentNested(converted.schema, name, doc);
    properties[name] = describeParameter(ts, checker, nested, parameter, documented ?? doc.parameters.get(name));
    if (!optional) required.push(name);
    parameters.push({ name, from: rest ? 'rest' : 'property', ...revive });
  }
  const input: JsonSchema = whole ?? {
    type: 'object',
    ...(Object.keys(properties).length > 0 && { properties }),
    ...(required.length > 0 && { required }),
  };
  return { parameters, input, definitions: reader.takeDefinitions() };
}

function isEmptyObject({ type, properties, additionalProperties, patternProperties }: JsonSchema): boolean {
  const named = typeof properties === 'object' && properties !== null && Object.keys(properties).length === 0;
  return type === 'object' && named && additionalProperties === undefined && patternProperties === undefined;
}

function freeName(taken: Readonly<Record<string, unknown>>): string {
  let free = 'options';
  for (let count = 2; free in taken; count++) free = `options${count}`;
  return free;
}

interface ReadReturn {
  readonly output?: JsonSchema;
  readonly returns: ReturnShape;
  readonly mimeType?: string;
}

function readReturn(ts: Compiler, checker: ts.TypeChecker, { returned: type, doc }: Form, node: ts.Node): ReadReturn {
  const mimeType = doc.tags.get('mimeType') || undefined;
  const kind = kindOf(doc);
  // A resource and a prompt promise no structure; what they give is written by the protocol's own rules.
  if (kind !== 'tool') return { returns: { as: 'nothing' }, ...(mimeType !== undefined && { mimeType }) };
  const { TypeFlags } = ts;
  if ((type.flags & (TypeFlags.Void | TypeFlags.Undefined | TypeFlags.Never | TypeFlags.Any | TypeFlags.Unknown)) !== 0)
    return { returns: { as: 'nothing' } };
  const bare = checker.getNonNullableType(type);
  const name = bare.symbol?.getName() ?? '';
  const declaredIn = bare.symbol?.declarations?.[0]?.getSourceFile();
  const isLibrary = declaredIn !== undefined && isLibraryFile(declaredIn);
  if (name === 'Answer' && bare.getProperty('content') !== undefined) return { returns: { as: 'nothing' } };
  if (isLibrary && (name === 'Blob' || name === 'File')) return { returns: { as: 'media', ...(mimeType && { mimeType }) } };
  if (isLibrary && mimeType !== undefined && /^(?:Uint8Array|Buffer|ArrayBuffer|ReadableStream|Readable)$/.test(name))
    return { returns: { as: 'media', mimeType } };

  const reader = new TypeConverter(ts, checker, node, 'out', () => undefined);
  const { schema } = about('the return value', () => reader.convertRoot(type));
  const { schemas } = reader.takeDefinitions();
  const definitions = schemas && { $defs: schemas };
  const described = withDoc(schema, doc.returns, {});
  const mayBeMissing = type.isUnion() && type.types.some((part) => (part.flags & (TypeFlags.Undefined | TypeFlags.Void)) !== 0);
  if (schema.type === 'object' && !mayBeMissing) return { output: { ...described, ...definitions }, returns: { as: 'object' } };
  return {
    output: {
      type: 'object',
      // JSON has no undefined: a function that finds nothing answers null.
      properties: { result: mayBeMissing ? withDoc(orNull(schema), doc.returns, {}) : described },
      required: ['result'],
      ...definitions,
    },
    returns: { as: isLibrary && asyncLists.test(name) ? 'items' : 'result' },
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

/** The comment of `export const mix = () => …` stands above the statement, not the arrow; that of an overload's body serves all. */
function docOf(ts: Compiler, declaration: ts.SignatureDeclaration | undefined, node: ts.Node): FunctionDoc {
  const parent = declaration?.parent as ts.Node | undefined;
  const documented = declaration === undefined ? node : parent !== undefined && ts.isVariableDeclaration(parent) ? parent : declaration;
  const doc = readFunctionDoc(documented, ts);
  const isBare = doc.description === undefined && doc.parameters.size === 0 && doc.tags.size === 0;
  return isBare && documented !== node ? readFunctionDoc(node, ts) : doc;
}

/** An example is the input as JSON, or a call of the function with everything written out; any other text says nothing we could check. */
function readExample(ts: Compiler, text: string, name: string, parameters: readonly ParameterShape[]): Record<string, unknown>[] {
  const code = text
    .replaceAll(/^```\w*\s*$/gm, '')
    .replace(/<caption>.*?<\/caption>/s, '')
    .trim();
  const source = ts.createSourceFile('example.ts', code.startsWith('{') ? `(${code})` : code, ts.ScriptTarget.ESNext, true);
  for (const statement of source.statements) {
    const expression = expressionOf(ts, statement);
    if (expression === undefined) continue;
    if (ts.isCallExpression(expression) && expression.expression.getText().split('.').at(-1) !== name) continue;
    const given = ts.isCallExpression(expression)
      ? expression.arguments.map((argument) => literalValue(ts, undefined, argument))
      : [literalValue(ts, undefined, expression)];
    if (given.some((value) => value === undefined)) continue;
    const values = given.map((value) => value!.value);
    if (!ts.isCallExpression(expression)) return isRecord(values[0]) ? [values[0]] : [];
    const taken = parameters.filter(({ from }) => from !== 'signal' && from !== 'call');
    if (taken[0]?.from === 'whole-input') return isRecord(values[0]) ? [values[0]] : [];
    const input: Record<string, unknown> = {};
    taken.forEach(({ name, from }, index) => {
      if (from === 'rest') input[name] = values.slice(index);
      else if (from === 'property' && index < values.length) input[name] = values[index];
    });
    return [input];
  }
  return [];
}

/** `f(1)`, `await f(1)`, `const x = f(1)`, `console.log(f(1))`: the call, or the object, that is meant. */
function expressionOf(ts: Compiler, statement: ts.Statement): ts.CallExpression | ts.ObjectLiteralExpression | undefined {
  let node: ts.Expression | undefined = ts.isExpressionStatement(statement)
    ? statement.expression
    : ts.isVariableStatement(statement)
      ? statement.declarationList.declarations[0]?.initializer
      : undefined;
  for (;;) {
    if (node === undefined) return undefined;
    if (ts.isAwaitExpression(node) || ts.isParenthesizedExpression(node)) node = node.expression;
    else if (ts.isCallExpression(node) && node.expression.getText() === 'console.log') node = node.arguments[0];
    else return ts.isCallExpression(node) || ts.isObjectLiteralExpression(node) ? node : undefined;
  }
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

/** A signal and our own `call` are handed in; nobody sends them. */
function injectedKind(
  checker: ts.TypeChecker,
  type: ts.Type,
  parameter: ts.ParameterDeclaration | undefined,
): 'signal' | 'call' | undefined {
  const bare = checker.getNonNullableType(type);
  const name = bare.symbol?.getName();
  if (name === 'AbortSignal') return 'signal';
  const written = parameter?.type?.getText();
  return written === 'Call' && (name !== 'Call' || bare.getProperty('askFor') !== undefined) && bare.getProperty('progress') !== undefined
    ? 'call'
    : undefined;
}

function isOptional(ts: Compiler, checker: ts.TypeChecker, symbol: ts.Symbol, parameter: ts.ParameterDeclaration | undefined): boolean {
  if (parameter === undefined) return (symbol.flags & ts.SymbolFlags.Optional) !== 0;
  if (checker.isOptionalParameter(parameter) || parameter.initializer !== undefined) return true;
  const type = checker.getTypeOfSymbolAtLocation(symbol, parameter);
  return type.isUnion() && type.types.some((part) => (part.flags & ts.TypeFlags.Undefined) !== 0);
}

/** `@param place.apiary where` describes a field of a parameter. */
function documentNested(schema: JsonSchema, name: string, doc: FunctionDoc): JsonSchema {
  const properties = schema.properties as Record<string, JsonSchema> | undefined;
  if (properties === undefined) return schema;
  let changed = false;
  const described = Object.fromEntries(
    Object.entries(properties).map(([key, property]) => {
      const own = doc.parameters.get(`${name}.${key}`);
      if (own === undefined) return [key, property];
      changed = true;
      return [key, withDoc(property, own.description, own.keywords)];
    }),
  );
  return changed ? { ...schema, properties: described } : schema;
}

function describeParameter(
  ts: Compiler,
  checker: ts.TypeChecker,
  schema: JsonSchema,
  parameter: ts.ParameterDeclaration | undefined,
  doc: Documented | undefined,
): JsonSchema {
  const initial = parameter?.initializer === undefined ? undefined : literalValue(ts, checker, parameter.initializer);
  const described = withDoc(schema, doc?.description, doc?.keywords ?? {});
  return initial === undefined ? described : { ...described, default: initial.value };
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

import { propertiesOf, requiredOf } from '../../protocol/json-schema.js';
import { basename } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { ViewOffer } from '../../offers/view.js';
import { view } from '../views/view.js';
import { choose, type Choice } from '../../offers/choose.js';
import type { Offer } from '../../offers/offer.js';
import type { Omission, Source } from '../../offers/source.js';
import { prompt } from '../../offers/prompt.js';
import { resource, template } from '../../offers/resource.js';
import { tool } from '../../offers/tool.js';
import { isJexoError, JexoError } from '../../errors.js';
import type { JsonSchema } from '../../protocol/types.js';
import { invoke } from './invoke.js';
import { isPackageName } from './package-name.js';
import type { FunctionShape, ModuleShape, UnreadableExport } from './shape.js';

/** Where the types of functions are, and which of them are offered. */
export interface WrapFunctionsOptions extends Choice {
  /** The module's source, whose types and comments describe the offers: a `file:` URL, a path, or the name of an installed package. */
  readonly types?: URL | string;
  /** The types as read before, by `jexo pack` for one. Takes the place of `types`. */
  readonly shape?: ModuleShape;
  /** Shown beside the offers. Default: the file's name. */
  readonly name?: string;
  /** Instances of exported classes, by the name of the class. A class whose constructor needs nothing is made once by itself. */
  readonly instances?: Readonly<Record<string, object>>;
}

/**
 * Every exported function becomes a tool; the functions know nothing of it. A comment's tags may say more:
 * docs/functions.md lists them.
 *
 * @param module the module's namespace: `import * as hives from './hives.js'`
 * @throws JexoError JEXO_DEFINITION without types; when it is read, JEXO_TARGET_MISSING, JEXO_CHOICE
 * @example
 * wrapFunctions(hives, { types: new URL('./hives.ts', import.meta.url), except: ['winterStores'] })
 */
export function wrapFunctions(module: Readonly<Record<string, unknown>>, options: WrapFunctionsOptions = {}): Source {
  const { types, shape, instances = {} } = options;
  if (types === undefined && shape === undefined) {
    throw new JexoError('JEXO_DEFINITION', 'wrapFunctions needs to know where the types are.', {
      where: 'wrapFunctions',
      next: "Pass { types: new URL('./hives.ts', import.meta.url) }.",
    });
  }
  const path = types === undefined ? undefined : types instanceof URL || types.startsWith('file:') ? fileURLToPath(types) : types;
  const name = options.name ?? path?.replace(/^.*[\\/]/, '') ?? 'functions';
  const made = new Map<string, object>(Object.entries(instances));
  return {
    name,
    async read() {
      const { shape: read, files } = shape === undefined ? await readShape(path!) : { shape, files: [] };
      const offers: Offer[] = [];
      const unreadable: UnreadableExport[] = [...read.omitted];
      for (const each of read.functions) {
        try {
          const run = bind(each, module, made);
          if (run !== undefined) offers.push(toOffer(each, run));
          else if (each.member === undefined) unreadable.push(notThere(each));
        } catch (error) {
          if (!isJexoError(error)) throw error;
          unreadable.push({ name: each.needsInstance ? each.export : each.name, where: each.where, why: error.message, next: error.next });
        }
      }
      return choose({ offers, omitted: omissions(unreadable), files }, options, name);
    },
    freeze: async () => shape ?? withPages((await readShape(path!)).shape),
    thaw: (frozen) => wrapFunctions(module, { ...options, name, shape: frozen as ModuleShape }),
  };
}

type AnyFunction = (...args: unknown[]) => unknown;

/** Each once: a class that cannot be made would be reported for every one of its methods. */
function omissions(unreadable: readonly UnreadableExport[]): Omission[] {
  return [...new Map(unreadable.map((each) => [`${each.name} ${each.why}`, each])).values()].map((each) => ({
    ...each,
    what: 'function',
    code: 'JEXO_TYPE_UNREADABLE',
  }));
}

function notThere({ name, where, export: exported }: FunctionShape): UnreadableExport {
  return {
    name,
    where,
    why: `${exported} is declared, but the module does not export it when it runs`,
    next: 'Export it, or take it out of the declaration.',
  };
}

/**
 * The function to call, on the object it belongs to. Packages of the older module system may have all their exports under `default`.
 * @throws JexoError JEXO_DEFINITION when a class cannot be made without being told how
 */
function bind(shape: FunctionShape, module: Readonly<Record<string, unknown>>, instances: Map<string, object>): AnyFunction | undefined {
  const { export: exported, member } = shape;
  const found = module[exported] ?? (module.default as Record<string, unknown> | undefined)?.[exported];
  if (member === undefined) return typeof found === 'function' ? (found as AnyFunction) : undefined;
  if (shape.needsInstance !== true) {
    const owner = found as Record<string, unknown> | undefined;
    return typeof owner?.[member] === 'function' ? (...args) => (owner[member] as AnyFunction)(...args) : undefined;
  }
  if (!instances.has(exported) && shape.makesItself !== true) {
    throw new JexoError('JEXO_DEFINITION', `the class ${exported} cannot be made without arguments`, {
      next: `Give an instance to wrapFunctions, as { instances: { ${exported}: … } }, or export one.`,
    });
  }
  return (...args) => {
    let instance = instances.get(exported) as Record<string, AnyFunction> | undefined;
    if (instance === undefined) instances.set(exported, (instance = new (found as new () => Record<string, AnyFunction>)()));
    return instance[member]!(...args);
  };
}

/** The type reader is loaded only when there is something to read: it is the largest part of the package. */
async function readShape(path: string): Promise<{ readonly shape: ModuleShape; readonly files: readonly string[] }> {
  const [{ readCached }, { findTypes }] = await Promise.all([import('./shape-cache.js'), import('./find-types.js')]);
  const { shape, files } = await readCached(isPackageName(path) ? path : findTypes(path));
  return { shape, files: files.filter((file) => !/[\\/]node_modules[\\/]/.test(file)) };
}

/** Views by the path of their page: those of several functions are one. */
const views = new Map<string, ViewOffer>();

function viewOfShape({ view: path, page, title, name }: FunctionShape): { readonly view?: ViewOffer } {
  if (path === undefined) return {};
  const known = views.get(path);
  if (known !== undefined && page === undefined) return { view: known };
  const called = basename(path).replace(/\.html?$/, '');
  const about = { title: title ?? name };
  const made =
    page !== undefined
      ? view(called, { ...about, html: page })
      : view(called, { ...about, ...(/\.html?$/.test(path) ? { file: path } : { folder: path }) });
  if (page === undefined) views.set(path, made);
  return { view: made };
}

/** What a pack carries reads no files. */
async function withPages(shape: ModuleShape): Promise<ModuleShape> {
  const functions = await Promise.all(
    shape.functions.map(async (each) => {
      const page = await viewOfShape(each).view?.page();
      return page === undefined ? each : { ...each, page };
    }),
  );
  return { ...shape, functions };
}

function toOffer(shape: FunctionShape, run: AnyFunction): Offer {
  const { name, title, description, icons, tags } = shape;
  const described = { ...(title && { title }), ...(description && { description }), ...(icons && { icons }), ...(tags && { tags }) };
  const aliases = [shape.export, ...(shape.member === undefined ? [] : [shape.member, `${shape.export}.${shape.member}`])];
  const found = { where: shape.where, aliases };
  switch (shape.kind) {
    case 'tool': {
      const { input, output, annotations, taskSupport, taskRetry, confirm, visibleTo } = shape;
      const more = {
        ...(output && { output }),
        ...(annotations && { annotations }),
        ...(taskSupport && { taskSupport }),
        ...(taskRetry && { taskRetry }),
        ...(visibleTo && { visibleTo }),
        ...viewOfShape(shape),
        ...(confirm && { confirm }),
      };
      const made = tool(
        name,
        { ...described, input, ...more },
        (given, call) => invoke(shape, run, given as Record<string, unknown>, call) as never,
      );
      return { ...made, ...found };
    }
    case 'prompt': {
      const input = asTexts(shape.input);
      const made = prompt(
        name,
        { ...described, ...(Object.keys(propertiesOf(input)).length > 0 && { input }) },
        (given, call) => invoke(shape, run, fromTexts(given as Record<string, unknown>, shape.input), call) as string,
      );
      return { ...made, ...found };
    }
    case 'resource': {
      if (Object.keys(propertiesOf(shape.input)).length > 0) throw wrongUri(shape, 'takes parameters, but its URI has no variables');
      const made = resource(shape.uri!, { ...described, name, ...mime(shape) }, (_request, call) => invoke(shape, run, {}, call) as string);
      return { ...made, ...found };
    }
    case 'template': {
      const made = template(
        shape.uri!,
        { ...described, name, ...mime(shape) },
        (variables, call) => invoke(shape, run, fromTexts(variables, shape.input), call) as string,
      );
      const missing = requiredOf(shape.input).filter((each) => !made.template.variables.includes(each));
      if (missing.length > 0) throw wrongUri(shape, `takes ${missing.join(', ')}, which its URI does not name`);
      return { ...made, ...found };
    }
  }
}

function mime({ mimeType }: FunctionShape): { mimeType?: string } {
  return mimeType === undefined ? {} : { mimeType };
}

function wrongUri({ name, uri }: FunctionShape, why: string): JexoError {
  return new JexoError('JEXO_DEFINITION', `${name} ${why} (${uri})`, {
    next: 'Name every parameter in the URI, as in @resource hive://{hive}',
  });
}

/** A prompt's arguments, and a URI's variables, are texts: their schema says so, and what it said before stays in words. */
function asTexts(schema: JsonSchema): JsonSchema {
  const properties = Object.entries(propertiesOf(schema)).map(([key, property]) => {
    const { description, title } = property;
    const isText = property.type === 'string' && (property.enum === undefined || Array.isArray(property.enum));
    return [
      key,
      isText ? property : { type: 'string', ...(title !== undefined && { title }), ...(description !== undefined && { description }) },
    ];
  });
  return { ...schema, properties: Object.fromEntries(properties) };
}

/** Reads texts as the kinds the function takes. */
function fromTexts(texts: Readonly<Record<string, unknown>>, schema: JsonSchema): Record<string, unknown> {
  const properties = propertiesOf(schema);
  return Object.fromEntries(
    Object.entries(texts).map(([key, value]) => [key, typeof value === 'string' ? fromText(value, properties[key]) : value]),
  );
}

function fromText(text: string, schema: JsonSchema | undefined): unknown {
  switch (schema?.type) {
    case 'number':
    case 'integer':
      return Number(text);
    case 'boolean':
      return text === 'true';
    case 'array':
      return text.startsWith('[') ? (JSON.parse(text) as unknown) : text.split(',');
    case 'object':
      return JSON.parse(text);
    default:
      return text;
  }
}

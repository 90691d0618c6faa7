import { fileURLToPath } from 'node:url';
import { answer } from '../../offers/answer.js';
import type { Call } from '../../offers/call.js';
import type { Source, ToolOffer } from '../../offers/offer.js';
import { compileSchema, type CompiledSchema } from '../../offers/schema.js';
import { JexoError } from '../../errors.js';
import { frozenShape, remember } from './frozen-shapes.js';
import { invoke } from './invoke.js';
import type { FunctionShape, ModuleShape } from './shape.js';

export interface WrapFunctionsOptions {
  /** The module's source, whose types and comments describe the tools: a `file:` URL or a path. */
  readonly types?: URL | string;
  /** The types as read before, by `jexo pack` for one. Takes the place of `types`. */
  readonly shape?: ModuleShape;
  /** Shown beside the tools. Default: the file's name. */
  readonly name?: string;
}

/**
 * Every exported function becomes a tool; the functions know nothing of it.
 *
 * @param module the module's namespace: `import * as hives from './hives.js'`
 * @example
 * wrapFunctions(hives, { types: new URL('./hives.ts', import.meta.url) })
 */
export function wrapFunctions(module: Readonly<Record<string, unknown>>, options: WrapFunctionsOptions): Source {
  const { types, shape } = options;
  if (types === undefined && shape === undefined) {
    throw new JexoError('JEXO_DEFINITION', 'wrapFunctions needs to know where the types are.', {
      where: 'wrapFunctions',
      next: "Pass { types: new URL('./hives.ts', import.meta.url) }.",
    });
  }
  const path = types === undefined ? undefined : types instanceof URL || types.startsWith('file:') ? fileURLToPath(types) : types;
  const name = options.name ?? path?.replace(/^.*[\\/]/, '') ?? 'functions';
  return {
    name,
    async read() {
      const read = shape ?? (await readShape(path!));
      const offers = read.functions
        .filter((each) => typeof module[each.export] === 'function')
        .map((each) => toTool(each, module[each.export] as AnyFunction));
      return { offers, omitted: read.omitted };
    },
  };
}

type AnyFunction = (...args: unknown[]) => unknown;

/** The type reader is loaded only when there is something to read: it is the largest part of the package. */
async function readShape(path: string): Promise<ModuleShape> {
  const frozen = frozenShape(path);
  if (frozen !== undefined) return frozen;
  const { readCached } = await import('./shape-cache.js');
  const shape = await readCached(path);
  remember(path, shape);
  return shape;
}

function toTool(shape: FunctionShape, run: AnyFunction): ToolOffer {
  const where = `tool ${shape.name}`;
  const output = shape.output === undefined ? undefined : compileSchema(shape.output, 'output', where);
  return {
    kind: 'tool',
    name: shape.name,
    title: shape.title,
    description: shape.description,
    input: compileSchema(shape.input, 'input', where),
    output,
    annotations: shape.annotations,
    tags: shape.tags,
    where: shape.where,
    run: ((input: Record<string, unknown>, call: Call) => {
      const value = invoke(shape, run, input, call);
      return value instanceof Promise ? value.then((settled) => pack(settled, shape, output)) : pack(value, shape, output);
    }) as ToolOffer['run'],
  };
}

function pack(value: unknown, shape: FunctionShape, output: CompiledSchema | undefined): unknown {
  if (output === undefined) return value === undefined ? answer({ content: [{ type: 'text', text: 'Done.' }] }) : value;
  return shape.wrapped ? { result: value } : value;
}

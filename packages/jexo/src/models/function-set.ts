import type { JsonSchema, Tool } from '../protocol/types.js';
import { plainSchema, type PlainSchema } from './plain-schema.js';

/** A tool as services take it that speak the chat-completions JSON. */
export interface FunctionDefinition {
  /** Services take nothing else. */
  readonly type: 'function';
  /** Its name, what it does, and its input. */
  readonly function: { readonly name: string; readonly description?: string; readonly parameters: JsonSchema };
}

/** Tools as functions of a chat model, and the way back from its calls. */
export interface FunctionSet {
  /** For `tools` of a request. */
  readonly functions: readonly FunctionDefinition[];
  /** The tool and the input that a model's call means. A name that is none of these stays as it is. */
  toTool(call: { readonly name: string; readonly arguments: Readonly<Record<string, unknown>> }): {
    readonly name: string;
    readonly input: Readonly<Record<string, unknown>>;
  };
  /** How a call of a tool was written by the model: for the history it is given. */
  toFunction(call: { readonly name: string; readonly input: Readonly<Record<string, unknown>> }): {
    readonly name: string;
    readonly arguments: Readonly<Record<string, unknown>>;
  };
}

/** Names of functions that services take. */
const takenName = /^[A-Za-z0-9_-]{1,64}$/;

const known = new WeakMap<readonly Tool[], FunctionSet>();

/**
 * Turns tools into the function-calling JSON of chat models, and their calls back into calls of tools.
 *
 * Names that services do not take are shortened and found again: `lots.list` becomes `lots_list`. Input schemas are rewritten in the
 * keywords services take; properties get names they take, which `toTool` turns back. What is dropped only narrows, and the server checks it.
 *
 * @example
 * const set = functionSet(await client.tools());
 * // …send set.functions; for each call in the answer:
 * const { name, input } = set.toTool({ name: call.function.name, arguments: JSON.parse(call.function.arguments) });
 * await client.call(name, input);
 */
export function functionSet(tools: readonly Tool[]): FunctionSet {
  const before = known.get(tools);
  if (before !== undefined) return before;
  const given = nameTools(tools);
  const own = new Map([...given].map(([name, shown]) => [shown, name]));
  const schemas = new Map<string, PlainSchema>(tools.map(({ name, inputSchema }) => [name, plainSchema(inputSchema)]));
  const made: FunctionSet = {
    functions: tools.map(({ name, description }) => ({
      type: 'function',
      function: {
        name: given.get(name)!,
        ...(description !== undefined && description !== '' && { description }),
        parameters: schemas.get(name)!.schema,
      },
    })),
    toTool({ name: shown, arguments: values }) {
      const name = own.get(shown) ?? shown;
      return { name, input: (schemas.get(name)?.toOwn(values) ?? values) as Record<string, unknown> };
    },
    toFunction({ name, input }) {
      return { name: given.get(name) ?? name, arguments: (schemas.get(name)?.toGiven(input) ?? input) as Record<string, unknown> };
    },
  };
  known.set(tools, made);
  return made;
}

function nameTools(tools: readonly Tool[]): ReadonlyMap<string, string> {
  const given = new Map<string, string>();
  const taken = new Set<string>();
  for (const { name } of [...tools].sort((a, b) => Number(takenName.test(b.name)) - Number(takenName.test(a.name)))) {
    const plain = takenName.test(name) ? name : name.replaceAll(/[^A-Za-z0-9_-]+/g, '_').slice(0, 60) || 'tool';
    let free = plain;
    for (let count = 2; taken.has(free); count++) free = `${plain}_${count}`;
    given.set(name, free);
    taken.add(free);
  }
  return given;
}

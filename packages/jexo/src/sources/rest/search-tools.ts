import type MiniSearch from 'minisearch';
import type { Call } from '../../offers/call.js';
import { nearest } from '../../offers/nearest.js';
import type { ToolOffer } from '../../offers/offer.js';
import { describeIssues } from '../../offers/schema.js';
import { tool } from '../../offers/tool.js';
import { answer } from '../../offers/answer.js';
import { snakeCase } from '../functions/snake-case.js';

const shownMost = 15;
const failure = (text: string) => answer({ content: [{ type: 'text', text }], isError: true });

type Index = MiniSearch<{ id: string; name: string; about: string; tags: string }>;
type ByName = ReadonlyMap<string, ToolOffer>;

/** Three tools in place of hundreds: find an operation by words, show what it takes, call it. */
export function searchTools(operations: readonly ToolOffer[]): ToolOffer[] {
  const byName: ByName = new Map(operations.map((each) => [each.name, each]));
  return [findOperation(operations, byName), showOperation(byName), callOperation(byName)];
}

const operation = { type: 'string', description: 'its name, as find_operation gives it' } as const;

function unknown(name: string, byName: ByName) {
  const near = nearest(name, byName.keys());
  return failure(`There is no operation ${name}.${near === undefined ? ' Find one with find_operation.' : ` Did you mean ${near}?`}`);
}

async function indexOf(operations: readonly ToolOffer[]): Promise<Index> {
  const { default: Search } = await import('minisearch');
  const made: Index = new Search({
    fields: ['name', 'about', 'tags'],
    searchOptions: { boost: { name: 3 }, prefix: true, fuzzy: 0.2 },
  });
  const words = (text: string) => text.replaceAll('_', ' ');
  made.addAll(
    operations.map(({ name, title = '', description = '', tags = [], aliases = [] }) => ({
      id: name,
      name: `${words(name)} ${aliases.map((alias) => words(snakeCase(alias.replaceAll(/\W+/g, '_')))).join(' ')}`,
      about: `${title} ${description}`,
      tags: tags.join(' '),
    })),
  );
  return made;
}

function findOperation(operations: readonly ToolOffer[], byName: ByName): ToolOffer {
  let index: Promise<Index> | undefined;
  return tool(
    'find_operation',
    {
      title: 'Find an operation',
      description: `Finds operations of this API by words: what one wants to do, and to what. There are ${operations.length}. Use first; then show_operation for what it takes.`,
      input: {
        type: 'object',
        properties: {
          words: { type: 'string', description: 'what you want to do, as in "list hives of an apiary"' },
          limit: { type: 'integer', minimum: 1, maximum: 50, default: shownMost },
        },
        required: ['words'],
      },
      output: {
        type: 'object',
        properties: {
          found: {
            type: 'array',
            items: {
              type: 'object',
              properties: { operation: { type: 'string' }, about: { type: 'string' }, readOnly: { type: 'boolean' } },
            },
          },
          of: { type: 'integer' },
        },
        required: ['found', 'of'],
      },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    async ({ words, limit = shownMost }) => {
      const found = (await (index ??= indexOf(operations))).search(words).slice(0, limit);
      return {
        found: found.map(({ id }) => {
          const { name, title, description = '', annotations } = byName.get(String(id))!;
          return {
            operation: name,
            about: title ?? description.split('\n')[0]!.slice(0, 160),
            readOnly: annotations?.readOnlyHint === true,
          };
        }),
        of: operations.length,
      };
    },
  );
}

function showOperation(byName: ByName): ToolOffer {
  return tool(
    'show_operation',
    {
      title: 'Show an operation',
      description: 'Shows what an operation does, what it takes and whether it changes anything. Use before call_operation.',
      input: { type: 'object', properties: { operation }, required: ['operation'] },
      output: {
        type: 'object',
        properties: {
          operation: { type: 'string' },
          description: { type: 'string' },
          input: { type: 'object' },
          annotations: { type: 'object' },
        },
        required: ['operation', 'input'],
      },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    ({ operation: name }) => {
      const found = byName.get(name);
      if (found === undefined) return unknown(name, byName);
      return { operation: name, description: found.description ?? '', input: found.input.json, annotations: { ...found.annotations } };
    },
  );
}

function callOperation(byName: ByName): ToolOffer {
  return tool(
    'call_operation',
    {
      title: 'Call an operation',
      description: 'Calls an operation with its input. Use after show_operation, which shows its input.',
      input: {
        type: 'object',
        properties: {
          operation,
          input: { type: 'object', description: 'what show_operation says it takes', additionalProperties: true },
        },
        required: ['operation'],
      },
      annotations: { destructiveHint: true },
    },
    async ({ operation: name, input = {} }, call) => {
      const found = byName.get(name);
      if (found === undefined) return unknown(name, byName);
      const checked = await found.input.check(input);
      if (!checked.ok)
        return failure(`The input for ${name} is not valid:\n${describeIssues(checked.issues)}\nFix these fields and call it again.`);
      const question = found.confirm?.(checked.value as never);
      if (question !== undefined) await call.ask(question, { type: 'object', properties: {} });
      return (found.run as (input: unknown, call: Call) => unknown)(checked.value, call);
    },
  );
}

import { functionSet } from '../models/function-set.js';
import type { JsonSchema, Tool } from '../protocol/types.js';
import { estimateTokens } from '../models/tokens.js';

/** What could be removed from a tool without changing what it takes, and what that would save. */
export interface Trim {
  readonly what: string;
  readonly saves: number;
}

export interface SeenTool {
  readonly name: string;
  readonly tokens: number;
  /** Of these, what the description and the schema cost. */
  readonly descriptionTokens: number;
  readonly schemaTokens: number;
  readonly trims: readonly Trim[];
  /** True when its name or description is being tried out. */
  readonly edited: boolean;
}

export interface ModelView {
  /** What a model is given of each tool, as JSON in the protocol's own words. */
  readonly text: string;
  /** The same as a chat-completions service takes it. */
  readonly functions: string;
  readonly tokens: number;
  readonly tools: readonly SeenTool[];
}

/** Another name or description to try before it is written into the code. */
export type Edits = Readonly<Record<string, { readonly name?: string; readonly description?: string }>>;

/** The tools with the names and descriptions that are being tried. */
export function editTools(tools: readonly Tool[], edits: Edits): Tool[] {
  return tools.map((tool) => ({ ...tool, ...edits[tool.name] }));
}

/**
 * What a model is given of tools: their names, descriptions and input schemas, and nothing else. Hosts differ in how they wrap
 * it; titles, output schemas and annotations do not reach the model in most.
 */
export function modelView(tools: readonly Tool[], edits: Edits = {}): ModelView {
  const given = editTools(tools, edits).map(({ name, description, inputSchema }) => ({
    name,
    ...(description !== undefined && description !== '' && { description }),
    inputSchema,
  }));
  const text = JSON.stringify(given, null, 2);
  return {
    text,
    functions: JSON.stringify(functionSet(given).functions, null, 2),
    tokens: given.reduce((sum, each) => sum + estimateTokens(each), 0),
    tools: given.map((each, index) => ({
      name: tools[index]!.name,
      tokens: estimateTokens(each),
      descriptionTokens: estimateTokens(each.description ?? ''),
      schemaTokens: estimateTokens(each.inputSchema),
      trims: trimsOf(each.description ?? '', tools[index]!),
      edited: edits[tools[index]!.name] !== undefined,
    })),
  };
}

function trimsOf(description: string, { inputSchema }: Tool): Trim[] {
  const [first = ''] = description.split(/\n\s*\n/);
  const whole = estimateTokens(inputSchema);
  const without = (drop: (key: string, value: unknown) => boolean) => whole - estimateTokens(pruned(inputSchema, drop));
  const trims: Trim[] = [
    { what: 'all but the first paragraph of the description', saves: estimateTokens(description) - estimateTokens(first) },
    { what: 'examples in the schema', saves: without((key) => key === 'examples') },
    { what: 'titles in the schema', saves: without((key, value) => key === 'title' && typeof value === 'string') },
    { what: 'limits and patterns, which the server checks anyway', saves: without((key) => limits.has(key)) },
    {
      what: 'descriptions of more than 120 characters, cut',
      saves: estimateTokens(inputSchema) - estimateTokens(pruned(inputSchema, () => false, 120)),
    },
  ];
  return trims.filter(({ saves }) => saves > 0);
}

const limits = new Set(['minLength', 'maxLength', 'pattern', 'minItems', 'maxItems', 'uniqueItems', 'multipleOf', 'contentEncoding']);

/** A copy of a schema without some keywords; the names of properties are never taken for keywords. */
function pruned(schema: unknown, drop: (key: string, value: unknown) => boolean, cutAt = Infinity): JsonSchema {
  const visit = (value: unknown, isSchema: boolean): unknown => {
    if (Array.isArray(value)) return value.map((item) => visit(item, isSchema));
    if (typeof value !== 'object' || value === null) return value;
    return Object.fromEntries(
      Object.entries(value).flatMap(([key, item]) => {
        if (isSchema && drop(key, item)) return [];
        if (isSchema && key === 'description' && typeof item === 'string') return [[key, item.slice(0, cutAt)]];
        const named = isSchema && (key === 'properties' || key === '$defs' || key === 'patternProperties');
        return [[key, visit(item, !named && (isSchema || !Array.isArray(item)) ? true : !named)]];
      }),
    );
  };
  return visit(schema, true) as JsonSchema;
}

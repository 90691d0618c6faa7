import type { GraphQLField, GraphQLOutputType, GraphQLSchema } from 'graphql';
import { snakeCase } from '../functions/snake-case.js';
import type { GraphQL } from './library.js';

const mostOperations = 40;
const mostFields = 20;
const levels = 2;

/** A first set of operations by file name: the queries of a schema with their scalar fields, two levels deep. To be pruned. */
export function starterOperations(g: GraphQL, schema: GraphQLSchema): Readonly<Record<string, string>> {
  const fields = Object.values(schema.getQueryType()?.getFields() ?? {}).filter(({ deprecationReason }) => !deprecationReason);
  const made = fields.slice(0, mostOperations).flatMap((field) => {
    const text = operationFor(g, schema, field);
    return text === undefined ? [] : [[`${snakeCase(field.name)}.graphql`, text] as const];
  });
  return Object.fromEntries(made);
}

function operationFor(
  g: GraphQL,
  schema: GraphQLSchema,
  { name, args, type, description }: GraphQLField<unknown, unknown>,
): string | undefined {
  // Paging arguments are worth having, other optional ones are added by hand.
  const kept = args.filter((argument) => g.isRequiredArgument(argument) || /^(?:first|after|limit|offset)$/.test(argument.name));
  const variables = kept.map((argument) => `$${argument.name}: ${String(argument.type)}`).join(', ');
  const given = kept.map((argument) => `${argument.name}: $${argument.name}`).join(', ');
  const selection = selectionOf(g, schema, type, levels, '    ');
  if (selection === undefined) return undefined;
  const words =
    description
      ?.trim()
      .split('\n')
      .map((line) => `# ${line.trim()}\n`) ?? [];
  const operation = name[0]!.toUpperCase() + name.slice(1);
  return `${words.join('')}query ${operation}${variables === '' ? '' : `(${variables})`} {\n  ${name}${given === '' ? '' : `(${given})`}${selection}\n}\n`;
}

/** The fields of a type that need no arguments; undefined when it has none, and empty for a leaf. */
function selectionOf(g: GraphQL, schema: GraphQLSchema, type: GraphQLOutputType, depth: number, indent: string): string | undefined {
  const named = g.getNamedType(type);
  if (g.isLeafType(named)) return '';
  if (g.isUnionType(named)) return ` {\n${indent}__typename\n${indent.slice(2)}}`;
  if (!('getFields' in named)) return undefined;
  const isConnection = 'pageInfo' in named.getFields();
  const lines: string[] = [];
  for (const field of Object.values(named.getFields())) {
    if (lines.length >= mostFields || field.deprecationReason || field.args.some((argument) => g.isRequiredArgument(argument))) continue;
    const isLeaf = g.isLeafType(g.getNamedType(field.type));
    if (isLeaf) lines.push(`${indent}${field.name}`);
    else if (field.name === 'pageInfo') lines.push(`${indent}pageInfo {\n${indent}  hasNextPage\n${indent}  endCursor\n${indent}}`);
    else if (depth > 1 || isConnection) {
      // The lists of a connection are not a level of their own.
      const inner = selectionOf(g, schema, field.type, isConnection ? depth : depth - 1, `${indent}  `);
      if (inner) lines.push(`${indent}${field.name}${inner}`);
      if (isConnection && inner && /^(?:nodes|edges)$/.test(field.name)) break;
    }
  }
  if (isConnection && !lines.some((line) => line.includes('pageInfo {')) && 'pageInfo' in named.getFields())
    lines.push(`${indent}pageInfo {\n${indent}  hasNextPage\n${indent}  endCursor\n${indent}}`);
  return lines.length === 0 ? undefined : ` {\n${lines.join('\n')}\n${indent.slice(2)}}`;
}

import type { GraphQLSchema } from 'graphql';
import type { GraphQL } from './library.js';
import type { WrittenOperation } from './read-operations.js';

const longest = 700;
const mostFields = 14;

/** What an operation does, in the schema's words for what it selects: what its root fields are, what they answer with, what is deprecated. */
export function describeOperation(g: GraphQL, schema: GraphQLSchema, { operation, fragments, doc }: WrittenOperation): string {
  const deprecated: string[] = [];
  const roots: string[] = [];
  const fields: string[] = [];
  const info = new g.TypeInfo(schema);
  const seen = new Set<string>();
  const walk = (node: Parameters<typeof g.visit>[0]): void => {
    g.visit(
      node as never,
      g.visitWithTypeInfo(info, {
        Field: {
          enter({ name }) {
            if (name.value.startsWith('__')) return;
            const field = info.getFieldDef();
            const parent = info.getParentType();
            if (!field || !parent) return;
            if (field.deprecationReason) deprecated.push(`${parent.name}.${name.value} (${field.deprecationReason})`);
            const words = firstSentence(field.description);
            if (parent === schema.getRootType(operation.operation)) roots.push(words === '' ? '' : words);
            else if (words !== '' && !seen.has(`${parent.name}.${name.value}`)) {
              seen.add(`${parent.name}.${name.value}`);
              fields.push(`${name.value} (${words.replace(/\.$/, '')})`);
            } else if (words === '' && g.isLeafType(g.getNamedType(field.type)) && !seen.has(name.value)) {
              seen.add(name.value);
              fields.push(name.value);
            }
          },
        },
        FragmentSpread({ name }) {
          const fragment = fragments.get(name.value);
          if (fragment === undefined || seen.has(`…${name.value}`)) return;
          seen.add(`…${name.value}`);
          walk(fragment);
        },
      }),
    );
  };
  walk(operation);
  const root = [...new Set(roots.filter((each) => each !== ''))].join(' ');
  const asked = operation.selectionSet.selections.flatMap((each) => (each.kind === g.Kind.FIELD ? [each.name.value] : []));
  const some = fields.slice(0, mostFields).join(', ');
  const composed = [
    root === ''
      ? `${operation.operation === 'query' ? 'Reads' : operation.operation === 'mutation' ? 'Changes' : 'Follows'} ${asked.join(', ')}.`
      : root,
    ...(some === '' ? [] : [`Answers with ${some}${fields.length > mostFields ? ' and more' : ''}.`]),
  ].join(' ');
  const words = doc.description ?? (composed.length > longest ? `${composed.slice(0, longest - 1)}…` : composed);
  return deprecated.length === 0 ? words : `${words}\nUses what is deprecated: ${[...new Set(deprecated)].join(', ')}.`;
}

function firstSentence(text: string | null | undefined): string {
  const plain = text?.replaceAll(/\s+/g, ' ').trim() ?? '';
  const [sentence = plain] = /^.*?[.!?](?=\s|$)/.exec(plain) ?? [];
  return sentence;
}

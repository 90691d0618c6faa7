import type {
  FieldNode,
  FragmentDefinitionNode,
  GraphQLCompositeType,
  GraphQLObjectType,
  GraphQLOutputType,
  GraphQLSchema,
  OperationDefinitionNode,
  SelectionSetNode,
} from 'graphql';
import type { JsonSchema } from '../../protocol/types.js';
import { orNull, scalarSchema } from './input-schema.js';
import type { ScalarSchemas } from './graphql-options.js';
import type { GraphQL } from './library.js';

/** A field as one concrete type has it, with all selections of it. */
interface Selected {
  readonly nodes: FieldNode[];
  /** False when a directive may drop it from the answer. */
  isCertain: boolean;
}

/** The schema of what an operation answers with under `data`, from its selection. */
export function answerSchema(
  g: GraphQL,
  schema: GraphQLSchema,
  operation: OperationDefinitionNode,
  fragments: ReadonlyMap<string, FragmentDefinitionNode>,
  scalars: ScalarSchemas,
): JsonSchema {
  const select = (sets: readonly SelectionSetNode[], type: GraphQLObjectType): Map<string, Selected> => {
    const found = new Map<string, Selected>();
    const take = ({ selections }: SelectionSetNode, isCertain: boolean): void => {
      for (const selection of selections) {
        const isSure = isCertain && !selection.directives?.some(({ name }) => ['skip', 'include', 'defer'].includes(name.value));
        if (selection.kind === g.Kind.FIELD) {
          const key = selection.alias?.value ?? selection.name.value;
          const before = found.get(key);
          if (before === undefined) found.set(key, { nodes: [selection], isCertain: isSure });
          else {
            before.nodes.push(selection);
            before.isCertain ||= isSure;
          }
          continue;
        }
        const fragment = selection.kind === g.Kind.FRAGMENT_SPREAD ? fragments.get(selection.name.value) : selection;
        if (fragment === undefined) continue;
        const condition = fragment.typeCondition === undefined ? type : schema.getType(fragment.typeCondition.name.value);
        const applies = condition === type || (g.isAbstractType(condition) && schema.isSubType(condition, type));
        if (applies) take(fragment.selectionSet, isSure);
      }
    };
    for (const set of sets) take(set, true);
    return found;
  };

  const valueSchema = (type: GraphQLOutputType, nodes: readonly FieldNode[]): JsonSchema => {
    if (g.isNonNullType(type)) return bareSchema(type.ofType as GraphQLOutputType, nodes);
    return orNull(bareSchema(type, nodes));
  };
  const bareSchema = (type: GraphQLOutputType, nodes: readonly FieldNode[]): JsonSchema => {
    if (g.isListType(type)) return { type: 'array', items: valueSchema(type.ofType as GraphQLOutputType, nodes) };
    if (g.isScalarType(type)) return scalarSchema(type, scalars, true);
    if (g.isEnumType(type)) return { type: 'string', enum: type.getValues().map(({ name }) => name) };
    return compositeSchema(
      type as GraphQLCompositeType,
      nodes.flatMap(({ selectionSet }) => (selectionSet === undefined ? [] : [selectionSet])),
    );
  };

  const compositeSchema = (type: GraphQLCompositeType, sets: readonly SelectionSetNode[]): JsonSchema => {
    const concrete = g.isAbstractType(type) ? schema.getPossibleTypes(type) : [type];
    const each = concrete.map((one) => objectSchema(one, sets));
    return mergeObjects(each);
  };

  const objectSchema = (type: GraphQLObjectType, sets: readonly SelectionSetNode[]): JsonSchema => {
    const fields = select(sets, type);
    const properties: Record<string, JsonSchema> = {};
    const required: string[] = [];
    for (const [key, { nodes, isCertain }] of fields) {
      const name = nodes[0]!.name.value;
      const field = name === '__typename' ? undefined : type.getFields()[name];
      properties[key] =
        field === undefined ? { type: 'string', enum: [type.name] } : withWords(valueSchema(field.type, nodes), field.description);
      if (isCertain) required.push(key);
    }
    return { type: 'object', properties, required };
  };

  const root = schema.getRootType(operation.operation)!;
  return objectSchema(root, [operation.selectionSet]);
}

const longestWords = 160;

function withWords(schema: JsonSchema, words: string | null | undefined): JsonSchema {
  const plain = words?.replaceAll(/\s+/g, ' ').trim();
  return plain ? { ...schema, description: plain.slice(0, longestWords) } : schema;
}

/** One schema for objects of several types: what all have is required, and a field with several schemas may have any of them. */
function mergeObjects(all: readonly JsonSchema[]): JsonSchema {
  if (all.length === 1) return all[0]!;
  const texts = new Set(all.map((each) => JSON.stringify(each)));
  if (texts.size === 1) return all[0]!;
  const names = new Set(all.flatMap(({ properties }) => Object.keys(properties ?? {})));
  const properties: Record<string, JsonSchema> = {};
  for (const name of names) {
    const found = all.flatMap((each) => (each.properties?.[name] === undefined ? [] : [each.properties[name] as JsonSchema]));
    const distinct = [...new Map(found.map((each) => [JSON.stringify(each), each])).values()];
    const isName = distinct.every((each) => each.enum !== undefined && each.type === 'string');
    properties[name] =
      distinct.length === 1
        ? distinct[0]!
        : isName
          ? { type: 'string', enum: [...new Set(distinct.flatMap((each) => each.enum!))] }
          : { anyOf: distinct };
  }
  const required = [...names].filter((name) => all.every((each) => (each.required as readonly string[]).includes(name)));
  return { type: 'object', properties, required };
}

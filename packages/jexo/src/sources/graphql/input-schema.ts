import type { GraphQLInputObjectType, GraphQLInputType, GraphQLScalarType, GraphQLSchema, OperationDefinitionNode } from 'graphql';
import type { JsonSchema } from '../../protocol/types.js';
import type { GraphQL } from './library.js';
import type { ScalarSchemas } from './graphql-options.js';

const int32 = 2_147_483_647;

const specified: Readonly<Record<string, JsonSchema>> = {
  Int: { type: 'integer', minimum: -int32 - 1, maximum: int32 },
  Float: { type: 'number' },
  String: { type: 'string' },
  Boolean: { type: 'boolean' },
  ID: { type: ['string', 'integer'] },
};

/** The schema of a scalar. @param isOutput what a server sends is narrower than what it takes */
export function scalarSchema(type: GraphQLScalarType, scalars: ScalarSchemas, isOutput: boolean): JsonSchema {
  const mapped = Object.hasOwn(scalars, type.name) ? scalars[type.name] : undefined;
  if (mapped !== undefined) return mapped;
  if (isOutput && type.name === 'ID') return { type: 'string' };
  const known = Object.hasOwn(specified, type.name) ? specified[type.name] : undefined;
  if (known !== undefined) return known;
  const said = [type.description, type.specifiedByURL].filter(Boolean).join(' ');
  return said === '' ? {} : { description: said };
}

/** The schema and null. */
export function orNull(schema: JsonSchema): JsonSchema {
  if (Object.keys(schema).filter((key) => key !== 'description').length === 0) return schema;
  if (schema.enum !== undefined) return { ...schema, ...typeOrNull(schema), enum: [...schema.enum, null] };
  return schema.type !== undefined && schema.anyOf === undefined && schema.$ref === undefined
    ? { ...schema, ...typeOrNull(schema) }
    : { anyOf: [schema, { type: 'null' }] };
}

const typeOrNull = ({ type }: JsonSchema): JsonSchema =>
  type === undefined ? {} : { type: [...new Set([type].flat().concat('null'))] as never };

/** The schema without null. */
const notNull = (schema: JsonSchema): JsonSchema =>
  Object.keys(schema).filter((key) => key !== 'description').length === 0 ? { ...schema, not: { type: 'null' } } : schema;

/** Converts input types; objects that are used twice, or hold themselves, get a definition of their own. */
export function inputConverter(g: GraphQL, scalars: ScalarSchemas) {
  const $defs: Record<string, JsonSchema> = {};
  const uses = new Map<string, number>();
  const count = (type: GraphQLInputType): void => {
    const named = g.getNamedType(type);
    if (!g.isInputObjectType(named)) return;
    const before = uses.get(named.name) ?? 0;
    uses.set(named.name, before + 1);
    if (before === 0) for (const field of Object.values(named.getFields())) count(field.type);
  };
  const nullable = (type: GraphQLInputType): JsonSchema => {
    if (g.isListType(type)) return { type: 'array', items: convert(type.ofType as GraphQLInputType) };
    if (g.isScalarType(type)) return scalarSchema(type, scalars, false);
    if (g.isEnumType(type)) {
      const values = type.getValues();
      const words = values
        .filter(({ description }) => description)
        .map(({ name, description }) => `${name}: ${description!.replaceAll(/\s+/g, ' ')}`);
      return { type: 'string', enum: values.map(({ name }) => name), ...(words.length > 0 && { description: words.join('; ') }) };
    }
    const object = type as GraphQLInputObjectType;
    if ((uses.get(object.name) ?? 0) < 2) return objectSchema(object);
    if (!Object.hasOwn($defs, object.name)) {
      $defs[object.name] = {}; // what holds itself finds its definition begun
      $defs[object.name] = objectSchema(object);
    }
    return { $ref: `#/$defs/${object.name}` };
  };
  const objectSchema = (type: GraphQLInputObjectType): JsonSchema => {
    const fields = Object.values(type.getFields());
    const isOneOf = type.isOneOf;
    return {
      type: 'object',
      ...(type.description && { description: type.description }),
      properties: Object.fromEntries(
        fields.map(({ name, type: own, description, defaultValue, deprecationReason }) => [
          name,
          described(isOneOf ? notNull(nullable(own)) : convert(own), description, defaultValue, deprecationReason),
        ]),
      ),
      ...(isOneOf
        ? { minProperties: 1, maxProperties: 1 }
        : { required: fields.filter((field) => g.isRequiredInputField(field)).map(({ name }) => name) }),
      additionalProperties: false,
    };
  };
  const convert = (type: GraphQLInputType): JsonSchema =>
    g.isNonNullType(type) ? notNull(nullable(type.ofType as GraphQLInputType)) : orNull(nullable(type));
  return {
    count,
    convert,
    /** Definitions that the converted types refer to. */
    definitions: () => (Object.keys($defs).length > 0 ? { $defs } : {}),
  };
}

function described(
  schema: JsonSchema,
  description: string | null | undefined,
  defaultValue: unknown,
  deprecated: string | null | undefined,
): JsonSchema {
  const words = [description?.trim(), schema.description, deprecated && `Deprecated: ${deprecated}`]
    .filter(Boolean)
    .join('. ')
    .replaceAll('.. ', '. ');
  return { ...schema, ...(words !== '' && { description: words }), ...(defaultValue !== undefined && { default: defaultValue }) };
}

/**
 * The input of an operation, from its variables. A variable that may be null takes null; a default is shown, and not sent unless it is
 * given. A list is an array: GraphQL's shorthand of a single value is not offered.
 *
 * @param words descriptions and keywords by variable
 */
export function variablesSchema(
  g: GraphQL,
  schema: GraphQLSchema,
  operation: OperationDefinitionNode,
  scalars: ScalarSchemas,
  words: ReadonlyMap<string, { readonly description?: string; readonly keywords: Readonly<Record<string, unknown>> }>,
): JsonSchema {
  const converter = inputConverter(g, scalars);
  const variables = (operation.variableDefinitions ?? []).map(({ variable, type, defaultValue }) => ({
    name: variable.name.value,
    type: g.typeFromAST(schema, type as never) as unknown as GraphQLInputType,
    defaultValue,
  }));
  for (const { type } of variables) converter.count(type);
  const used = argumentsOf(g, schema, operation);
  const properties = Object.fromEntries(
    variables.map(({ name, type, defaultValue }) => {
      const own = words.get(name);
      const made = described(
        converter.convert(type),
        own?.description ?? used.get(name),
        defaultValue === undefined ? undefined : g.valueFromASTUntyped(defaultValue),
        undefined,
      );
      return [name, { ...made, ...own?.keywords }];
    }),
  );
  return {
    type: 'object',
    properties,
    required: variables.filter(({ type, defaultValue }) => g.isNonNullType(type) && defaultValue === undefined).map(({ name }) => name),
    additionalProperties: false,
    ...converter.definitions(),
  };
}

/** What the schema says of the arguments that a variable is given to. */
function argumentsOf(g: GraphQL, schema: GraphQLSchema, operation: OperationDefinitionNode): ReadonlyMap<string, string> {
  const found = new Map<string, string>();
  const info = new g.TypeInfo(schema);
  g.visit(
    operation,
    g.visitWithTypeInfo(info, {
      Variable: ({ name }) => {
        const words = info.getArgument()?.description;
        if (words && !found.has(name.value)) found.set(name.value, words);
      },
    }),
  );
  return found;
}

import type {
  ASTNode,
  GraphQLError,
  DocumentNode,
  FieldNode,
  GraphQLField,
  GraphQLInputType,
  GraphQLNamedType,
  GraphQLOutputType,
  GraphQLSchema,
  OperationDefinitionNode,
  SelectionSetNode,
} from 'graphql';
import type MiniSearch from 'minisearch';
import { answer } from '../../offers/answer.js';
import { nearest } from '../../offers/nearest.js';
import type { ToolOffer } from '../../offers/offer.js';
import { tool } from '../../offers/tool.js';
import { guarded } from '../http/guarded.js';
import { readAnswer, type AnswerContext } from '../http/read-answer.js';
import { shownAnswer, type GraphqlContext } from './operation-tool.js';
import type { GraphQL } from './library.js';
import type { ExploreOptions } from './graphql-options.js';

const failure = (text: string) => answer({ content: [{ type: 'text', text }], isError: true });

/** `find_in_<name>` finds and explains types and fields; `query_<name>` runs an operation of the model's own. */
export function exploreTools(context: GraphqlContext, name: string, options: ExploreOptions): ToolOffer[] {
  return [findTool(context, name), queryTool(context, name, options)];
}

interface Entry {
  readonly id: string;
  readonly name: string;
  readonly about: string;
  readonly shown: string;
}

const spaced = (text: string) => text.replaceAll(/([a-z0-9])([A-Z])/g, '$1 $2').replaceAll(/[._]/g, ' ');
const oneLine = (text: string | null | undefined) => text?.replaceAll(/\s+/g, ' ').trim() ?? '';

function fieldText({ name, args, type, description, deprecationReason }: GraphQLField<unknown, unknown>): string {
  const list = args.map(
    (each) => `${each.name}: ${String(each.type)}${each.defaultValue === undefined ? '' : ` = ${JSON.stringify(each.defaultValue)}`}`,
  );
  const words = [oneLine(description).slice(0, 160), deprecationReason && `deprecated: ${deprecationReason}`].filter(Boolean).join('; ');
  return `${name}${list.length > 0 ? `(${list.join(', ')})` : ''}: ${String(type)}${words === '' ? '' : `  # ${words}`}`;
}

function entriesOf(g: GraphQL, schema: GraphQLSchema): Entry[] {
  return Object.values(schema.getTypeMap()).flatMap((type) => {
    if (g.isIntrospectionType(type) || g.isSpecifiedScalarType(type)) return [];
    const own = { id: type.name, name: spaced(type.name), about: oneLine(type.description), shown: `${kindOf(g, type)} ${type.name}` };
    const fields = g.isObjectType(type) || g.isInterfaceType(type) || g.isInputObjectType(type) ? Object.values(type.getFields()) : [];
    return [
      own,
      ...fields.map((field) => ({
        id: `${type.name}.${field.name}`,
        name: `${spaced(field.name)} ${spaced(type.name)}`,
        about: oneLine(field.description),
        shown: `${type.name}.${'args' in field ? fieldText(field) : `${field.name}: ${String(field.type)}`}`,
      })),
    ];
  });
}

const kindOf = (g: GraphQL, type: GraphQLNamedType) =>
  g.isObjectType(type)
    ? 'type'
    : g.isInterfaceType(type)
      ? 'interface'
      : g.isUnionType(type)
        ? 'union'
        : g.isEnumType(type)
          ? 'enum'
          : g.isInputObjectType(type)
            ? 'input'
            : 'scalar';

const mostFound = 20;
const mostExplained = 6000;

function findTool({ g, schema }: GraphqlContext, name: string): ToolOffer {
  let index: Promise<MiniSearch<Entry>> | undefined;
  const search = async () => {
    const { default: Search } = await import('minisearch');
    const made = new Search<Entry>({
      fields: ['name', 'about'],
      storeFields: ['shown'],
      searchOptions: { boost: { name: 3 }, prefix: true, fuzzy: (term) => (term.length > 4 ? 0.2 : false) },
    });
    made.addAll(entriesOf(g, schema));
    return made;
  };
  return tool(
    `find_in_${name}`,
    {
      title: `Find types and fields of ${name}`,
      description: `Finds types and fields of the GraphQL schema of ${name} by words, or explains one by its name: Query, Lot, Lot.moisture. Use it before query_${name}.`,
      input: {
        type: 'object',
        properties: {
          words: { type: 'string', maxLength: 200, description: 'what you look for' },
          name: { type: 'string', maxLength: 200, description: 'the name of a type, or of a field as Type.field, to be explained' },
          depth: { type: 'integer', minimum: 1, maximum: 3, description: 'levels of types that are explained; 1 unless you say otherwise' },
        },
        additionalProperties: false,
      },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    async ({ words, name: wanted, depth = 1 }) => {
      if (wanted !== undefined) return explain(g, schema, wanted, depth);
      if (words === undefined || words.trim() === '') return explain(g, schema, schema.getQueryType()?.name ?? 'Query', 1);
      const found = (await (index ??= search())).search(words).slice(0, mostFound);
      return found.length === 0
        ? `Nothing in the schema has these words. Query has: ${Object.keys(schema.getQueryType()?.getFields() ?? {})
            .slice(0, 40)
            .join(', ')}.`
        : found.map(({ shown }) => String(shown)).join('\n');
    },
  );
}

function explain(g: GraphQL, schema: GraphQLSchema, wanted: string, depth: number) {
  const [typeName = '', fieldName] = wanted.split('.');
  const type = schema.getType(typeName);
  if (type === undefined) {
    const like = nearest(
      typeName,
      Object.keys(schema.getTypeMap()).filter((each) => !each.startsWith('__')),
    );
    return failure(`There is no type ${typeName}.${like === undefined ? '' : ` Did you mean ${like}?`}`);
  }
  if (fieldName !== undefined) {
    const fields = 'getFields' in type ? type.getFields() : {};
    const field = Object.hasOwn(fields, fieldName) ? fields[fieldName] : undefined;
    if (field === undefined) {
      const like = nearest(fieldName, Object.keys(fields));
      return failure(`${typeName} has no field ${fieldName}.${like === undefined ? '' : ` Did you mean ${like}?`}`);
    }
    const own = 'args' in field ? fieldText(field) : `${field.name}: ${String(field.type)}  # ${oneLine(field.description)}`;
    const args =
      'args' in field
        ? field.args.map((each) => `  ${each.name}: ${String(each.type)}${each.description ? `  # ${oneLine(each.description)}` : ''}`)
        : [];
    const next = g.getNamedType(field.type);
    return [`${typeName}.${own}`, ...args, '', ...(g.isLeafType(next) && !g.isEnumType(next) ? [] : [sdl(g, next)])]
      .join('\n')
      .slice(0, mostExplained);
  }
  const shown = new Set<string>();
  const texts: string[] = [];
  let level: GraphQLNamedType[] = [type];
  for (let at = 0; at < depth; at++) {
    const next: GraphQLNamedType[] = [];
    for (const each of level) {
      if (shown.has(each.name) || g.isSpecifiedScalarType(each)) continue;
      shown.add(each.name);
      texts.push(sdl(g, each));
      if ('getFields' in each)
        for (const { type: own } of Object.values(each.getFields())) next.push(g.getNamedType(own as GraphQLOutputType));
      if (g.isAbstractType(each)) next.push(...schema.getPossibleTypes(each));
    }
    level = next;
  }
  const whole = texts.join('\n\n');
  return whole.length <= mostExplained
    ? whole
    : `${whole.slice(0, mostExplained)}\n\n[cut: ask for one field, as ${typeName}.${'getFields' in type ? Object.keys(type.getFields())[0] : ''}, or find it by words]`;
}

/** A type in a compact form of SDL. */
function sdl(g: GraphQL, type: GraphQLNamedType): string {
  const words = oneLine(type.description);
  const head = `${kindOf(g, type)} ${type.name}${words === '' ? '' : `  # ${words.slice(0, 200)}`}`;
  if (g.isEnumType(type))
    return [head, ...type.getValues().map(({ name, description }) => `  ${name}${description ? `  # ${oneLine(description)}` : ''}`)].join(
      '\n',
    );
  if (g.isUnionType(type))
    return `${head}\n  = ${type
      .getTypes()
      .map(({ name }) => name)
      .join(' | ')}`;
  if (g.isInputObjectType(type))
    return [
      head,
      ...Object.values(type.getFields()).map(
        ({ name, type: own, description }) => `  ${name}: ${String(own)}${description ? `  # ${oneLine(description)}` : ''}`,
      ),
    ].join('\n');
  if (!('getFields' in type)) return head;
  return [head, ...Object.values(type.getFields()).map((field) => `  ${fieldText(field)}`)].join('\n');
}

function queryTool(context: GraphqlContext, name: string, options: ExploreOptions): ToolOffer {
  const { g, schema, sender, upstream } = context;
  const { mutations = false } = options;
  return tool(
    `query_${name}`,
    {
      title: `Query ${name}`,
      description: `Runs one GraphQL operation of your own against ${name}${mutations ? '' : '; it can only read'}. It is checked against the schema first: find types and fields with find_in_${name}. Ask for the fields you need, and few items of a list.`,
      input: {
        type: 'object',
        properties: {
          document: { type: 'string', maxLength: 20_000, description: 'one operation with its fragments: { lots(first: 3) { id } }' },
          variables: { type: 'object', description: 'values of its variables' },
        },
        required: ['document'],
        additionalProperties: false,
      },
      annotations: mutations ? { destructiveHint: true } : { readOnlyHint: true },
    },
    (input, call) =>
      guarded(
        async () => {
          const { document: text, variables = {} } = input as { document: string; variables?: Record<string, unknown> };
          const read = checkDocument(g, schema, text, variables, options);
          if ('fault' in read) return failure(read.fault);
          const { operation } = read;
          const place: AnswerContext = {
            upstream,
            method: operation.operation,
            path: operation.name?.value ?? 'of its own',
            mediaType: 'application/json',
            output: undefined,
            wrapped: false,
          };
          const { answer: found, received } = await sender.send(
            { name: operation.name?.value ?? '', text, variables, isRepeatable: operation.operation === 'query' },
            call,
          );
          return found === undefined ? readAnswer(received, place) : shownAnswer(found, place);
        },
        call.signal,
        upstream.clean,
      ),
  );
}

/** An operation that may be sent, or what is wrong with it in words that help to correct it. */
function checkDocument(
  g: GraphQL,
  schema: GraphQLSchema,
  text: string,
  variables: Readonly<Record<string, unknown>>,
  { mutations = false, depth = 8, fields = 150, cost = 20_000 }: ExploreOptions,
): { readonly operation: OperationDefinitionNode } | { readonly fault: string } {
  let document: DocumentNode;
  try {
    document = g.parse(text, { maxTokens: 4000 });
  } catch (error) {
    const at = error instanceof g.GraphQLError ? error.locations?.[0] : undefined;
    return { fault: `${(error as Error).message}${at === undefined ? '' : ` (line ${at.line}, column ${at.column})`}` };
  }
  const operations = document.definitions.filter((each): each is OperationDefinitionNode => each.kind === g.Kind.OPERATION_DEFINITION);
  const [operation] = operations;
  if (operation === undefined || operations.length > 1) return { fault: `Send one operation; this document has ${operations.length}.` };
  if (operation.operation === 'subscription') return { fault: 'A subscription does not end; send a query.' };
  if (operation.operation === 'mutation' && !mutations) return { fault: 'Only queries are run here; a mutation would change something.' };
  const faults = g.validate(schema, document, undefined, { maxErrors: 5 });
  if (faults.length > 0) return { fault: faults.map((fault) => faultText(g, schema, document, fault)).join('\n') };
  const { errors } = g.getVariableValues(schema, operation.variableDefinitions ?? [], variables);
  if (errors !== undefined) return { fault: errors.map(({ message }) => message).join('\n') };
  const measured = measure(g, schema, document, operation, variables);
  if (measured.depth > depth)
    return { fault: `The operation has ${measured.depth} levels of fields, and ${depth} are allowed. Ask for less at once.` };
  if (measured.fields > fields)
    return { fault: `The operation asks for ${measured.fields} fields, and ${fields} are allowed. Ask for fewer.` };
  if (measured.cost > cost)
    return {
      fault: `The operation may answer with ${measured.cost.toLocaleString('en')} values, and ${cost.toLocaleString('en')} are allowed. Ask for fewer items of its lists (first, limit).`,
    };
  return { operation };
}

/** What is wrong with an operation, with what the field or type at that place has to offer. */
function faultText(g: GraphQL, schema: GraphQLSchema, document: DocumentNode, { message, nodes, locations }: GraphQLError): string {
  const at = locations?.[0];
  const place = at === undefined ? '' : ` (line ${at.line}, column ${at.column})`;
  return `${message}${place}${message.includes('Did you mean') ? '' : helpFor(g, schema, document, message, nodes?.[0])}`;
}

function helpFor(g: GraphQL, schema: GraphQLSchema, document: DocumentNode, message: string, node: ASTNode | undefined): string {
  const unknown = /^Cannot query field "\w+" on type "(\w+)"/.exec(message)?.[1];
  const type = unknown === undefined ? undefined : schema.getType(unknown);
  if (type !== undefined && 'getFields' in type) return ` ${type.name} has: ${Object.keys(type.getFields()).slice(0, 30).join(', ')}.`;
  if (!/argument/i.test(message)) return '';
  let help = '';
  const info = new g.TypeInfo(schema);
  g.visit(
    document,
    g.visitWithTypeInfo(info, {
      Field(field) {
        const { args = [] } = info.getFieldDef() ?? {};
        if (args.length > 0 && (field === node || field.arguments?.some((argument) => argument === node)))
          help = ` It takes: ${args.map(({ name, type: own }) => `${name}: ${String(own)}`).join(', ')}.`;
      },
    }),
  );
  return help;
}

/** How deep, broad and costly an operation is: fragments count where they are spread, and lists as often as they are asked for. */
function measure(
  g: GraphQL,
  schema: GraphQLSchema,
  document: DocumentNode,
  operation: OperationDefinitionNode,
  variables: Readonly<Record<string, unknown>>,
) {
  const fragments = new Map(
    document.definitions.flatMap((each) => (each.kind === g.Kind.FRAGMENT_DEFINITION ? [[each.name.value, each] as const] : [])),
  );
  let [deepest, fields] = [0, 0];
  const cost = (set: SelectionSetNode, type: GraphQLNamedType | undefined, depth: number): number => {
    deepest = Math.max(deepest, depth);
    let sum = 0;
    for (const selection of set.selections) {
      if (fields > mostCounted) return ceiling;
      if (selection.kind === g.Kind.FIELD) {
        fields += 1;
        const own = type !== undefined && 'getFields' in type ? type.getFields()[selection.name.value]?.type : undefined;
        const inner = own && g.getNamedType(own);
        sum +=
          selection.selectionSet === undefined
            ? 1
            : 1 + timesOf(g, selection, own, variables) * cost(selection.selectionSet, inner, depth + 1);
        continue;
      }
      const fragment = selection.kind === g.Kind.FRAGMENT_SPREAD ? fragments.get(selection.name.value) : selection;
      if (fragment === undefined) continue;
      const condition = fragment.typeCondition === undefined ? type : schema.getType(fragment.typeCondition.name.value);
      sum += cost(fragment.selectionSet, condition, depth);
    }
    return Math.min(ceiling, sum);
  };
  return { cost: cost(operation.selectionSet, schema.getRootType(operation.operation) ?? undefined, 1), depth: deepest, fields };
}

const ceiling = 1e9;
/** How often what is below a list of no stated length may come. */
const unboundedList = 10;
const mostCounted = 100_000;

/** How often what is below a field may come: as often as `first` and its like say, ten times for other lists. */
function timesOf(
  g: GraphQL,
  { arguments: given = [] }: FieldNode,
  type: GraphQLOutputType | GraphQLInputType | undefined,
  variables: Readonly<Record<string, unknown>>,
): number {
  const bound = given.find(({ name }) => /^(?:first|last|limit|take|size|pageSize|count)$/.test(name.value))?.value;
  const value =
    bound?.kind === g.Kind.INT ? Number(bound.value) : bound?.kind === g.Kind.VARIABLE ? Number(variables[bound.name.value]) : Number.NaN;
  if (Number.isFinite(value)) return Math.max(1, value);
  return type !== undefined && g.isListType(g.getNullableType(type as GraphQLOutputType)) ? unboundedList : 1;
}

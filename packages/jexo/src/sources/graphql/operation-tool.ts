import type { GraphQLSchema } from 'graphql';
import { answer, type Answer } from '../../offers/answer.js';
import type { Call } from '../../offers/call.js';
import type { ToolOffer } from '../../offers/offer.js';
import { lazySchema } from '../../offers/schema.js';
import { tool } from '../../offers/tool.js';
import { isRecord } from '../../protocol/is-record.js';
import type { JsonSchema } from '../../protocol/types.js';
import { snakeCase } from '../functions/snake-case.js';
import { guarded } from '../http/guarded.js';
import { readAnswer, structured, type AnswerContext } from '../http/read-answer.js';
import type { Upstream } from '../http/upstream.js';
import { connectionOf, nextCursor, withPage, type Connection } from './connections.js';
import { describeOperation } from './describe-operation.js';
import { variablesSchema } from './input-schema.js';
import type { ScalarSchemas } from './graphql-options.js';
import type { GraphQL } from './library.js';
import { answerSchema } from './output-schema.js';
import type { WrittenOperation } from './read-operations.js';
import { documentIdOf, faultWords, type GraphqlAnswer, type GraphqlFault, type GraphqlSender } from './send-graphql.js';

/** What tools of a GraphQL service share. */
export interface GraphqlContext {
  readonly g: GraphQL;
  readonly schema: GraphQLSchema;
  readonly upstream: Upstream;
  readonly sender: GraphqlSender;
  readonly scalars: ScalarSchemas;
  /** Pages a caller may have followed at once. */
  readonly pages: number;
  /** True when the service keeps documents by their digest; or their ids by name. */
  readonly persisted: boolean | Readonly<Record<string, string>>;
}

/** Where an answer says what went wrong beside its data. */
export const errorsMark = '_errors';

const errorsSchema: JsonSchema = {
  type: 'array',
  description: 'what could not be answered, and where',
  items: {
    type: 'object',
    properties: { message: { type: 'string' }, path: { type: 'array' }, code: { type: 'string' } },
    required: ['message'],
  },
};

/** A query or mutation as a tool. */
export function operationTool(context: GraphqlContext, written: WrittenOperation): ToolOffer {
  const { g, schema, scalars, pages } = context;
  const { operation, doc, where, fragments } = written;
  const isQuery = operation.operation === 'query';
  const connection = pages > 1 ? connectionOf(g, operation, fragments) : undefined;
  const variables = (operation.variableDefinitions ?? []).map(({ variable }) => variable.name.value);
  const paging = connection !== undefined && !variables.includes('pages') ? connection : undefined;
  const made = tool(
    snakeCase(written.name),
    {
      ...(doc.title !== undefined && { title: doc.title }),
      description: describeOperation(g, schema, written),
      annotations:
        isQuery || doc.isReadOnly
          ? { readOnlyHint: true }
          : { destructiveHint: doc.isDestructive ?? true, idempotentHint: doc.isIdempotent },
      ...(doc.tags.length > 0 && { tags: [...doc.tags] }),
    },
    (input: Record<string, unknown>, call) =>
      guarded(() => runOperation(context, written, input, call, { paging, output }), call.signal, context.upstream.clean),
  );
  const place = `operation ${written.name}`;
  const input = lazySchema(
    () => {
      const own = variablesSchema(g, schema, operation, scalars, doc.parameters);
      const examples = doc.examples.flatMap(readExample);
      const more = paging && {
        pages: { type: 'integer', minimum: 1, maximum: pages, default: 1, description: 'how many pages to fetch, one after the other' },
      };
      return {
        ...own,
        ...(more && { properties: { ...own.properties, ...more } }),
        ...(examples.length > 0 && { examples }),
      } as JsonSchema;
    },
    place,
    { fillDefaults: false },
  );
  const output = lazySchema(
    () => {
      const own = answerSchema(g, schema, operation, fragments, scalars);
      return { ...own, properties: { ...own.properties, [errorsMark]: errorsSchema } } as JsonSchema;
    },
    place,
    { fillDefaults: false },
  );
  const confirm = doc.confirm;
  return {
    ...made,
    input,
    output,
    where,
    aliases: [written.name],
    ...(confirm !== undefined && { confirm: (given: never) => fill(confirm, given) }),
  };
}

const fill = (text: string, input: Readonly<Record<string, unknown>>) =>
  text.replaceAll(/\{\$?(\w+)\}/g, (all, name: string) => (Object.hasOwn(input, name) ? String(input[name]) : all));

const readExample = (text: string): unknown[] => {
  try {
    return [JSON.parse(text) as unknown];
  } catch {
    return []; // an example in prose belongs to the reader of the file
  }
};

interface Running {
  readonly paging: Connection | undefined;
  readonly output: AnswerContext['output'];
}

async function runOperation(
  context: GraphqlContext,
  written: WrittenOperation,
  { pages: wanted = 1, ...given }: Record<string, unknown>,
  call: Call,
  { paging, output }: Running,
): Promise<Answer> {
  const { upstream, sender, persisted } = context;
  const { operation, text, name } = written;
  const documentId = persisted === true ? documentIdOf(text) : persisted === false ? undefined : persisted[name];
  const request = {
    name,
    text,
    variables: paging === undefined && wanted !== 1 ? { pages: wanted, ...given } : given,
    isRepeatable: operation.operation === 'query',
    ...(documentId !== undefined && { documentId }),
  };
  const place: AnswerContext = { upstream, method: operation.operation, path: name, mediaType: 'application/json', output, wrapped: false };
  const { answer: first, received } = await sender.send(request, call);
  if (first === undefined) return readAnswer(received, place);
  let found: GraphqlAnswer = first;
  let note = '';
  if (paging !== undefined)
    for (let count = 1; count < Number(wanted) && found.errors === undefined; count++) {
      const cursor = nextCursor(found.data, paging);
      if (cursor === undefined) break;
      call.progress(count, Number(wanted), `page ${count + 1}`);
      const { answer: next } = await sender.send({ ...request, variables: { ...given, [paging.variable]: cursor } }, call);
      const merged = next?.errors === undefined ? withPage(found.data, next?.data, paging) : undefined;
      if (merged === undefined) {
        note = `Page ${count + 1} could not be fetched${next?.errors === undefined ? '' : `: ${next.errors.map(faultWords).join('; ')}`}; what came before it is here.`;
        break;
      }
      found = { ...found, data: merged.data };
      if (merged.added === 0) break;
    }
  return shownAnswer(found, place, note);
}

const block = (text: string) => ({ type: 'text' as const, text });

/** Data and errors, both shown. Without data the call has failed. */
export async function shownAnswer({ data, errors }: GraphqlAnswer, place: AnswerContext, note = ''): Promise<Answer> {
  const { upstream, method, path } = place;
  const words = errors === undefined ? [] : [block(faultsText(errors, data, upstream.title))];
  if (!isRecord(data)) {
    const text = words[0]?.text ?? `${upstream.title} answered ${method} ${path} without data.`;
    return answer({ content: [block(text)], isError: true });
  }
  const made = await structured(errors === undefined ? data : { ...data, [errorsMark]: errors }, place);
  const more = [...words, ...(note === '' ? [] : [block(note)])];
  return more.length === 0 ? made : { ...made, content: [...made.content, ...more] };
}

/** The errors of an answer, and what they mean for its data. */
function faultsText(errors: readonly GraphqlFault[], data: unknown, title: string): string {
  const list = errors.slice(0, 10).map((each) => `- ${faultWords(each)}`);
  const rest = errors.length > 10 ? `\n- and ${errors.length - 10} more` : '';
  if (!isRecord(data)) return `${title} answered with errors and no data:\n${list.join('\n')}${rest}`;
  const nulled = errors.flatMap(({ path }) => (path === undefined ? [] : [nullAt(data, path)])).filter((each) => each !== undefined);
  const bubbled = nulled.length === 0 ? '' : `\nNull because of them: ${[...new Set(nulled)].join(', ')}.`;
  return `A part could not be answered:\n${list.join('\n')}${rest}${bubbled}`;
}

/** The place in the data that is null on the way to an error: a field that may not be null makes what holds it null. */
function nullAt(data: unknown, path: readonly (string | number)[]): string | undefined {
  let found = data;
  for (const [index, step] of path.entries()) {
    found = (found as Record<string | number, unknown>)[step];
    if (found === null)
      return path
        .slice(0, index + 1)
        .map((each, at) => (typeof each === 'number' ? `[${each}]` : `${at > 0 ? '.' : ''}${each}`))
        .join('');
    if (typeof found !== 'object') return undefined;
  }
  return undefined;
}

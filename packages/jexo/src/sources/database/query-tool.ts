import type { Call } from '../../offers/call.js';
import type { ToolOffer } from '../../offers/offer.js';
import { tool } from '../../offers/tool.js';
import { compileSchema } from '../../offers/schema.js';
import { JexoError } from '../../errors.js';
import type { JsonSchema, ToolAnnotations } from '../../protocol/types.js';
import { cursorFor, readCursor, rowSchema, rowsAnswer, rowsSchema, type Position } from './answer-rows.js';
import type { Described, Driver, ReadLimits, Rows } from './driver.js';
import { forDescribing, listParameters, parametersOf, type Parameter, type QueryText } from './named-query.js';
import { overSeen, type Seen } from './restrict.js';
import { hasLimit, tokensOf, withPlaceholders, type Token } from './sql-text.js';
import { counted } from '../../protocol/counted.js';

/** What the tools of a database share. */
export interface DatabaseContext {
  readonly driver: Driver;
  readonly seen: Seen;
  readonly limits: Omit<ReadLimits, 'signal' | 'skip' | 'isBounded'>;
}

/** Makes a tool of a named query. @throws JexoError JEXO_DEFINITION, with the line */
export async function queryTool(query: QueryText, context: DatabaseContext): Promise<ToolOffer> {
  const { driver, seen } = context;
  refuseHidden(query, context);
  const asked = forDescribing(query, driver.place.dialect);
  const sql = query.writes ? asked.sql : overSeen(asked.sql, asked.order, seen, driver, undefined).sql;
  const described = await driver.describe(sql).catch((error: unknown) => {
    if (!(error instanceof JexoError) || error.code !== 'JEXO_SQL') throw error;
    throw new JexoError('JEXO_DEFINITION', `The database refuses the statement: ${error.message}`, {
      where: error.where === undefined ? query.where : `${query.where}, ${error.where}`,
      next: 'Correct the statement.',
      cause: error,
    });
  });
  const told = new Map(
    described.parameters.flatMap((type, index) =>
      type === undefined ? [] : [[asked.order[index]!.replace(/\[\d+\]$/, ''), type] as const],
    ),
  );
  const parameters = parametersOf(query, told, seen.tables);
  checkKey(query, described);
  return query.writes ? writingTool(query, parameters, described, context) : readingTool(query, parameters, described, context);
}

/** A query of the person who wraps the database may not name what they have hidden: then one of the two is a mistake. */
function refuseHidden(query: QueryText, { seen }: DatabaseContext): void {
  const named = query.tokens.find(({ kind, value }) => (kind === 'word' || kind === 'quoted') && seen.hidden.has(value.toLowerCase()));
  if (named !== undefined)
    throw new JexoError('JEXO_DEFINITION', `The query names ${named.raw}, which only and except hide.`, {
      where: query.where,
      next: 'Show the table, or remove the query.',
    });
  const filtered = seen.tables.find(
    ({ filter, name }) => filter !== undefined && query.tokens.some(({ value }) => value.toLowerCase() === name.toLowerCase()),
  );
  if (query.writes && filtered !== undefined)
    throw new JexoError(
      'JEXO_DEFINITION',
      `The query writes to a database whose ${filtered.name} is filtered by caller, and a filter holds for reading only.`,
      {
        where: query.where,
        next: 'Wrap the database a second time without the filter, for the callers who may write.',
      },
    );
}

function checkKey({ key, where }: QueryText, { columns }: Described): void {
  const missing = key.find((name) => !columns.some((column) => column.name === name));
  if (missing !== undefined)
    throw new JexoError('JEXO_DEFINITION', `@key names ${missing}, which the query does not select.`, {
      where,
      next: `It selects: ${columns.map(({ name }) => name).join(', ')}.`,
    });
}

const usualLimit = 200;

type Input = Readonly<Record<string, unknown>>;

type Bind = (input: Input) => { readonly sql: string; readonly values: readonly unknown[] };

/** Makes what binds an input to a statement: its values in the order of the placeholders, and its lists expanded. */
function binder(sql: string, tokens: readonly Token[], parameters: readonly Parameter[], driver: Driver): Bind {
  const { dialect } = driver.place;
  const lists = [...listParameters(tokens)];
  const slotsOf = (order: readonly string[]) =>
    order.map((place) => {
      const [, name = '', index] = /^(\w+)(?:\[(\d+)\])?$/.exec(place) ?? [];
      const { type, isList } = parameters.find((each) => each.name === name)!;
      return {
        name,
        index: index === undefined ? undefined : Number(index),
        type: isList && index === undefined ? ({ kind: 'list', of: type } as const) : type,
      };
    });
  const valuesOf = (slots: ReturnType<typeof slotsOf>, input: Input) =>
    slots.map(({ name, index, type }) =>
      driver.toParameter(index === undefined ? input[name] : (input[name] as readonly unknown[])[index], type),
    );
  if (lists.length === 0) {
    // Nothing depends on the input: the statement is made once.
    const prepared = withPlaceholders(sql, tokens, dialect);
    const slots = slotsOf(prepared.order);
    return (input) => ({ sql: prepared.sql, values: valuesOf(slots, input) });
  }
  return (input) => {
    const lengths = Object.fromEntries(lists.map((name) => [name, ((input[name] ?? []) as readonly unknown[]).length]));
    const prepared = withPlaceholders(sql, tokens, dialect, lengths);
    return { sql: prepared.sql, values: valuesOf(slotsOf(prepared.order), input) };
  };
}

function readingTool(query: QueryText, parameters: readonly Parameter[], { columns }: Described, context: DatabaseContext): ToolOffer {
  const { driver, seen, limits } = context;
  const maxRows = query.limit ?? usualLimit;
  const bounded = hasLimit(query.tokens);
  const output = rowsSchema(rowSchema(columns));
  const pages = pagesOf(query, parameters, columns, maxRows, bounded, driver);
  const read = async (input: Input, call: Call) => {
    const { cursor, ...given } = input;
    const identity = () => query.sql + JSON.stringify(Object.entries(given).sort());
    const position: Position = cursor === undefined ? {} : readCursor(String(cursor), identity());
    const own = pages(given, position);
    const bound = seen.isReduced ? overSeen(own.sql, own.values, seen, driver, call.caller) : own;
    const found = await driver.read(bound.sql, bound.values, {
      ...limits,
      maxRows,
      signal: call.signal,
      isBounded: !bounded,
      ...(bounded && position.skip !== undefined && { skip: position.skip }),
    });
    return rowsAnswer(found, () => next(query, found, position, identity()));
  };
  return makeTool(query, parameters, { readOnlyHint: true }, output, read, bounded ? {} : { cursor: cursorSchema });
}

const cursorSchema: JsonSchema = { type: 'string', description: 'the cursor of the last answer, for the rows that follow' };

function next({ key }: QueryText, found: Rows, { skip = 0 }: Position, identity: string): string {
  const last = found.rows.at(-1)!;
  if (key.length === 0) return cursorFor(identity, { skip: skip + found.rows.length });
  return cursorFor(identity, { after: key.map((name) => last[found.columns.findIndex((column) => column.name === name)]) });
}

/** What makes the statement for one page: behind the key of the last row where the query names one, else behind so many rows. */
function pagesOf(
  query: QueryText,
  parameters: readonly Parameter[],
  columns: Described['columns'],
  maxRows: number,
  bounded: boolean,
  driver: Driver,
): (input: Input, position: Position) => ReturnType<Bind> {
  const { sql, tokens, key } = query;
  const { quote, place } = driver;
  if (key.length === 0 || bounded) {
    const bind = binder(sql, tokens, parameters, driver);
    return (input, { skip = 0 }) => {
      const own = bind(input);
      if (bounded) return own;
      return { ...own, sql: `${own.sql}\nlimit ${maxRows + 1}${skip > 0 ? ` offset ${skip}` : ''}` };
    };
  }
  const after = key.map((name, index): Parameter => {
    const { type } = columns.find((column) => column.name === name)!;
    return { name: `jexo_after_${index}`, type, isList: false, isRequired: true, schema: {} };
  });
  const marks = after.map(({ name }) => `:${name}`);
  const condition = ` where ${behind(key.map(quote), marks, place.dialect === 'mysql')}`;
  const pageOf = (where: string) => {
    const text = `select * from (${sql}\n) as jexo_page${where} order by ${key.map(quote).join(', ')} limit ${maxRows + 1}`;
    return binder(text, tokensOf(text, place.dialect), [...parameters, ...after], driver);
  };
  const [first, others] = [pageOf(''), pageOf(condition)];
  return (input, position) => {
    if (position.after === undefined) return first(input);
    return others({ ...input, ...Object.fromEntries(after.map(({ name }, index) => [name, position.after![index]])) });
  };
}

/** The condition for the rows behind a key. MariaDB uses no index for a comparison of rows, so there it is spelled out. */
export function behind(columns: readonly string[], values: readonly string[], isSpelledOut: boolean): string {
  if (!isSpelledOut || columns.length === 1)
    return columns.length === 1 ? `${columns[0]} > ${values[0]}` : `(${columns.join(', ')}) > (${values.join(', ')})`;
  const [first, ...rest] = columns;
  const [value, ...others] = values;
  return `${first} >= ${value} and (${first} > ${value} or (${behind(rest, others, true)}))`;
}

function writingTool(
  query: QueryText,
  parameters: readonly Parameter[],
  { columns }: Described,
  { driver, limits }: DatabaseContext,
): ToolOffer {
  const row = rowSchema(columns);
  const output: JsonSchema = {
    type: 'object',
    properties: {
      affected: { type: 'integer', description: 'rows that were written' },
      ...(columns.length > 0 && { rows: { type: 'array', items: row } }),
    },
    required: ['affected'],
  };
  const bind = binder(query.sql, query.tokens, parameters, driver);
  const write = async (input: Input, call: Call) => {
    const { sql, values } = bind(input);
    const how = { ...limits, maxRows: query.limit ?? usualLimit, signal: call.signal };
    if (query.preview) {
      const { affected } = await driver.write(sql, values, { ...how, keep: false });
      const question = fill(query.confirm ?? `${query.title ?? query.name}?`, input);
      await call.ask(`${question} It would write ${counted(affected, 'row')}.`, { type: 'object', properties: {} });
    }
    const done = await driver.write(sql, values, { ...how, keep: true });
    const { rows } = rowsAnswer(done, () => undefined);
    return { affected: done.affected, ...(columns.length > 0 && { rows }) };
  };
  const verb = query.tokens[0]!.value;
  const annotations = {
    destructiveHint: verb !== 'insert',
    idempotentHint: query.idempotent || verb === 'delete',
  };
  return makeTool(query, parameters, annotations, output, write, {});
}

const fill = (text: string, input: Input) =>
  text.replaceAll(/\{(\w+)\}/g, (all, name: string) => (Object.hasOwn(input, name) ? String(input[name]) : all));

function makeTool(
  query: QueryText,
  parameters: readonly Parameter[],
  annotations: ToolAnnotations,
  output: JsonSchema,
  run: (input: Input, call: Call) => Promise<object>,
  more: Readonly<Record<string, JsonSchema>>,
): ToolOffer {
  const examples = query.examples.flatMap((text) => {
    try {
      return [JSON.parse(text) as unknown];
    } catch {
      return []; // an example in prose belongs to the reader of the file
    }
  });
  const input = {
    type: 'object',
    properties: { ...Object.fromEntries(parameters.map(({ name, schema }) => [name, schema])), ...more },
    required: parameters.filter(({ isRequired }) => isRequired).map(({ name }) => name),
    additionalProperties: false,
    ...(examples.length > 0 && { examples }),
  };
  const { name, title, description, confirm, preview, tags, where } = query;
  try {
    const made = tool(
      name,
      {
        ...(title !== undefined && { title }),
        description: description ?? title ?? name.replaceAll('_', ' '),
        input,
        annotations: { ...annotations, openWorldHint: false },
        ...(tags.length > 0 && { tags: [...tags] }),
        ...(confirm !== undefined && !preview && { confirm }),
      },
      (given, call) => run(given as Input, call),
    );
    return { ...made, output: compileSchema(output, 'output', `query ${name}`), where };
  } catch (error) {
    throw error instanceof JexoError ? new JexoError('JEXO_DEFINITION', error.message, { where, next: error.next, cause: error }) : error;
  }
}

import { createHash } from 'node:crypto';
import { JexoError } from '../../errors.js';
import type { JsonSchema } from '../../protocol/types.js';
import { valueSchema } from './column-types.js';
import type { ResultColumn, Rows } from './driver.js';
import { counted } from '../../protocol/counted.js';

/** The names of columns, each once: `id`, `id_2`. */
export function columnNames(columns: readonly ResultColumn[]): string[] {
  const counts = new Map<string, number>();
  return columns.map(({ name }) => {
    const count = (counts.get(name) ?? 0) + 1;
    counts.set(name, count);
    return count === 1 ? name : `${name}_${count}`;
  });
}

/** Rows as objects. */
export function rowObjects({ columns, rows }: Pick<Rows, 'columns' | 'rows'>): Record<string, unknown>[] {
  const names = columnNames(columns);
  return rows.map((row) => {
    const object: Record<string, unknown> = {};
    for (let index = 0; index < names.length; index++) object[names[index]!] = row[index];
    return object;
  });
}

/** The schema of a row. */
export function rowSchema(columns: readonly ResultColumn[]): JsonSchema {
  const names = columnNames(columns);
  return {
    type: 'object',
    properties: Object.fromEntries(columns.map(({ type, nullable }, index) => [names[index]!, valueSchema(type, nullable)])),
    required: names,
  };
}

/** Where a next page begins: behind so many rows, or behind the row of this key. */
export interface Position {
  readonly skip?: number;
  readonly after?: readonly unknown[];
}

const digest = (text: string) => createHash('sha256').update(text).digest('base64url').slice(0, 10);

/** A cursor that goes on with the same statement. Nothing is kept for it on the server. */
export function cursorFor(statement: string, position: Position): string {
  return Buffer.from(JSON.stringify({ of: digest(statement), ...position })).toString('base64url');
}

/** @throws JexoError JEXO_INPUT_INVALID for a cursor of another statement, or for none at all */
export function readCursor(cursor: string, statement: string): Position {
  let read: { of?: unknown; skip?: unknown; after?: unknown } | undefined;
  try {
    read = JSON.parse(Buffer.from(cursor, 'base64url').toString()) as typeof read;
  } catch {
    read = undefined; // reported below
  }
  const isSkip = Number.isSafeInteger(read?.skip) && (read!.skip as number) >= 0;
  if (read?.of !== digest(statement) || (!isSkip && !Array.isArray(read.after)))
    throw new JexoError('JEXO_INPUT_INVALID', 'The cursor is not one that this call has answered with.', {
      where: 'cursor',
      next: 'Send the cursor of the last answer, with the same other arguments; or omit it to begin again.',
    });
  return isSkip ? { skip: read.skip as number } : { after: read.after as unknown[] };
}

/** What an answer of rows holds. */
export interface RowsAnswer {
  readonly rows: readonly Record<string, unknown>[];
  /** Why there are more, and how to go on. */
  readonly note?: string;
  readonly cursor?: string;
}

export const rowsSchema = (row: JsonSchema): JsonSchema => ({
  type: 'object',
  properties: {
    rows: { type: 'array', items: row },
    note: { type: 'string', description: 'why the rows end here' },
    cursor: { type: 'string', description: 'send it to get the rows that follow' },
  },
  required: ['rows'],
});

/** Rows with what is to be known of those that were not sent. */
export function rowsAnswer(found: Rows, goOn: () => string | undefined): RowsAnswer {
  const rows = rowObjects(found);
  if (found.cut === undefined) return { rows };
  const cursor = goOn();
  const why =
    found.cut === 'rows'
      ? `These are ${counted(rows.length, 'row')}, and there are more.`
      : `The answer was full after ${counted(rows.length, 'row')}, and there are more.`;
  return {
    rows,
    note: `${why} ${cursor === undefined ? 'Narrow the query to see the others.' : 'Call again with the cursor for the next ones.'}`,
    ...(cursor !== undefined && { cursor }),
  };
}

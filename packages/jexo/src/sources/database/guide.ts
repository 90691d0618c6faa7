import { typeWords } from './column-types.js';
import type { SeenTable } from './restrict.js';

/** Example values by column, of one table. */
export type Samples = ReadonlyMap<string, readonly unknown[]>;

/** About as many tokens as a text costs a model: four characters make one. */
const tokens = (text: string) => Math.ceil(text.length / 4);

const rowsWords = ({ kind, rows }: SeenTable) =>
  kind === 'view' ? 'view' : rows === undefined ? 'table' : `~${rows.toLocaleString('en')} rows`;
const sample = (value: unknown) =>
  typeof value === 'string' ? `'${value.length > 24 ? `${value.slice(0, 23)}…` : value}'` : JSON.stringify(value);

/** One table for a model: its columns with types, its key, where its columns point to. */
export function tableGuide(table: SeenTable, level: 'full' | 'columns' | 'name', samples?: Samples): string {
  const name = table.schema !== undefined && table.schema !== 'public' ? `${table.schema}.${table.name}` : table.name;
  if (level === 'name') return `${name} (${rowsWords(table)})`;
  const columns = table.columns.map((column) => {
    const remark = level === 'full' && column.comment !== undefined ? ` (${column.comment})` : '';
    const values = level === 'full' ? (samples?.get(column.name) ?? []) : [];
    const examples = values.length > 0 ? ` e.g. ${values.map(sample).join(', ')}` : '';
    return `${column.name} ${typeWords(column.type)}${column.nullable || table.key.includes(column.name) ? '' : ' not null'}${examples}${remark}`;
  });
  const key = table.key.length > 0 ? `; key (${table.key.join(', ')})` : '';
  const relations = table.relations.map(({ columns: from, table: to, to: target }) => `; ${from.join(', ')} → ${to}.${target.join(', ')}`);
  const comment = level === 'full' && table.comment !== undefined ? ` — ${table.comment}` : '';
  return `${name} (${rowsWords(table)})${comment}: ${columns.join(', ')}${key}${relations.join('')}`;
}

/** The guide of a database that goes into a description. */
export interface Guide {
  readonly text: string;
  /** True when it names every column. */
  readonly isWhole: boolean;
  readonly tokens: number;
}

/** As much of the schema as fits: with comments and examples, with columns alone, or the names of the tables. */
export function guideOf(tables: readonly SeenTable[], budget: number, samples: ReadonlyMap<string, Samples>): Guide {
  for (const level of ['full', 'columns', 'name'] as const) {
    const text = tables.map((table) => tableGuide(table, level, samples.get(table.name))).join('\n');
    if (tokens(text) <= budget) return { text, isWhole: level !== 'name', tokens: tokens(text) };
  }
  const names: string[] = [];
  for (const table of tables) {
    const line = tableGuide(table, 'name');
    if (tokens([...names, line].join(', ')) > budget - 12) break;
    names.push(line);
  }
  const text = `${names.join(', ')} and ${tables.length - names.length} more`;
  return { text, isWhole: false, tokens: tokens(text) };
}

import type { Remark } from '../../offers/source.js';
import type { Guide } from './guide.js';
import type { QueryText } from './named-query.js';
import type { SeenTable } from './restrict.js';
import { hasLimit, type Token } from './sql-text.js';

/** What is worth changing in the queries and tables of a database, for `jexo check`. */
export function remarksOn(
  queries: readonly QueryText[],
  tables: readonly SeenTable[],
  open: { readonly guide: Guide; readonly name: string; readonly budget: number } | undefined,
): Remark[] {
  return [
    ...queries.flatMap(remarksOnQuery),
    ...tables
      .filter(({ kind, key }) => kind === 'table' && key.length === 0)
      .map(({ name }) => ({
        rule: 'table-without-key',
        subject: `table ${name}`,
        message: `${name} has no key that may be seen, so only its first page is offered and its rows have no URI.`,
        remedy: 'Give it a primary key, or write a query for it.',
      })),
    ...(open === undefined || open.guide.isWhole
      ? []
      : [
          {
            rule: 'guide-over-budget',
            subject: `tool query_${open.name}`,
            message: `The columns of ${tables.length} tables do not fit into ${open.budget} tokens, so its description names the tables alone.`,
            remedy: 'Show fewer tables (only, except), or raise query.guideTokens.',
          },
        ]),
  ];
}

function remarksOnQuery({ name, tokens, writes, where, limit, key }: QueryText): Remark[] {
  const subject = `tool ${name}`;
  const isBounded = hasLimit(tokens) || limit !== undefined || key.length > 0 || !readsRows(tokens);
  return [
    ...(writes || isBounded
      ? []
      : [
          {
            rule: 'query-without-limit',
            subject,
            where,
            message: 'It has no limit: an answer holds 200 rows, and a model may go on through all of them.',
            remedy: 'Aggregate, or bound it: LIMIT in the statement, or @limit for the rows of one answer.',
          },
        ]),
    ...(selectsEverything(tokens)
      ? [
          {
            rule: 'select-star',
            subject,
            where,
            message: 'It selects every column, also those that are added later.',
            remedy: 'Name the columns that the answer is for.',
          },
        ]
      : []),
  ];
}

/** False for a statement that reads no table. */
const readsRows = (tokens: readonly Token[]) => tokens.some(({ kind, value }) => kind === 'word' && value === 'from');

/** `select *` and `select h.*`; not `count(*)`. */
function selectsEverything(tokens: readonly Token[]): boolean {
  return tokens.some(({ kind, value }, index) => {
    if (kind !== 'sign' || value !== '*') return false;
    const before = tokens[index - 1];
    return (
      before !== undefined &&
      ((before.kind === 'word' && /^(?:select|distinct|all)$/.test(before.value)) || before.value === '.' || before.value === ',')
    );
  });
}

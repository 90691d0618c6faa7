// A CSV file with computed columns as a source: every row a resource, a tool that filters, and its own kind of target.
import { readFile } from 'node:fs/promises';
import { watch } from 'node:fs';
import { basename } from 'node:path';
import { defineServer, resource, template, tool } from 'jexo';

/** @param {string} file a CSV file whose first line names the columns; the first column is the key
 *  @param {Record<string, (row: Record<string, string>) => unknown>} computed further columns */
export function wrapTable(file, computed = {}, frozen) {
  const name = basename(file).replace(/\.\w+$/, '');
  return {
    name,
    async read({ signal, progress, settings }) {
      const lines = (frozen ?? (await readFile(file, { encoding: 'utf8', signal }))).split(/\r?\n/).filter((line) => line.trim() !== '');
      const columns = (lines[0] ?? '').split(',').map((column) => column.trim());
      const omitted = [];
      const rows = new Map();
      for (const [at, line] of lines.slice(1).entries()) {
        signal.throwIfAborted();
        if (at % 1000 === 0) progress(at, lines.length - 1, file);
        const cells = line.split(',');
        if (cells.length !== columns.length) {
          const why = `it has ${cells.length} cells, and there are ${columns.length} columns`;
          omitted.push({ name: cells[0], what: 'row', where: `${file}:${at + 2}`, why, next: 'Correct the line.', code: 'JEXO_DOCUMENT' });
          continue;
        }
        const row = Object.fromEntries(columns.map((column, index) => [column, cells[index].trim()]));
        for (const [column, compute] of Object.entries(computed)) row[column] = compute(row);
        rows.set(cells[0].trim(), row);
      }
      const all = [...columns, ...Object.keys(computed)];
      const uri = (key) => `${name}://${encodeURIComponent(key)}`;
      return {
        files: frozen ? [] : [file],
        omitted,
        notes: [`${name}: ${rows.size} rows, ${all.length} columns.`],
        settings: [{ variable: 'TABLE_LIMIT', purpose: 'the rows one answer may have', secret: false }],
        offers: [
          tool(
            `find_in_${name}`,
            {
              description: `Finds rows of ${name} by the exact value of a column.`,
              input: {
                type: 'object',
                properties: { column: { type: 'string', enum: all }, value: { type: 'string' } },
                required: ['column', 'value'],
              },
              annotations: { readOnlyHint: true },
            },
            ({ column, value }) => ({
              rows: [...rows.values()].filter((row) => String(row[column]) === value).slice(0, Number(settings.TABLE_LIMIT ?? 50)),
            }),
          ),
          template(`${name}://{key}`, { name: `rows of ${name}`, complete: { key: [...rows.keys()] } }, ({ key }) => rows.get(key)),
          ...[...rows.keys()].map((key) => resource(uri(key), { name: key, mimeType: 'application/json' }, () => rows.get(key))),
        ],
      };
    },
    watch(changed) {
      const watcher = watch(file, changed);
      return () => watcher.close();
    },
    freeze: () => readFile(file, 'utf8'),
    thaw: (text) => wrapTable(file, computed, text),
  };
}

/** Recognised by its ending at the terminal: `jexo serve hives.table.csv`. */
export default {
  kind: 'table',
  noun: 'a table',
  example: 'hives.table.csv',
  about: 'a CSV file: its rows as resources, and a tool that finds them',
  matches: (text) => text.endsWith('.table.csv'),
  open: async (file) => ({ server: defineServer({ name: 'table', version: '1.0.0', offers: [wrapTable(file)] }), files: [] }),
};

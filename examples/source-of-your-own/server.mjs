// The table as a server, with a column that is computed: jexo inspect server.mjs
import { defineServer } from 'jexo';
import { fileURLToPath } from 'node:url';
import { wrapTable } from './table-source.mjs';

const file = fileURLToPath(new URL('./hives.csv', import.meta.url));

export default defineServer({
  name: 'hive-table',
  version: '1.0.0',
  offers: [wrapTable(file, { perBox: ({ kg, boxes }) => Math.round((10 * Number(kg)) / Number(boxes)) / 10 })],
});

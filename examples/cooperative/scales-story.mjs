// The part of the demo's story about a database: the scales of a season in a file of SQLite, which the loader writes at the first start.
import { existsSync, renameSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect, defineServer, wrapDatabase } from 'jexo';
import { loadScales } from './scales/load.mjs';

const here = dirname(fileURLToPath(import.meta.url));
const file = join(here, 'scales/scales.sqlite');
const queries = join(here, 'scales/queries');
/** As it is typed at the terminal. */
export const scalesTarget = [relative(process.cwd(), file), '--queries', relative(process.cwd(), queries)];

/** Writes the scales when they are not there yet. */
export async function makeScales(print = console.error) {
  if (existsSync(file)) return;
  const began = performance.now();
  // Whole or not at all, also where two begin at once.
  const beside = `${file}.${process.pid}`;
  const count = await loadScales(beside);
  renameSync(beside, file);
  print(`The scales are written: ${count.toLocaleString('en')} readings in ${((performance.now() - began) / 1000).toFixed(1)} s`);
}

/** Tells it, printing each step. */
export async function tellScalesStory(print = console.log) {
  const line = (sign, text) => print(`  ${sign} ${text}`);
  const scales = defineServer({
    name: 'scales',
    version: '1.0.0',
    offers: [wrapDatabase(file, { queries, except: ['keepers'], changesMs: 100 })],
  });
  const client = await connect(scales, {
    elicitation: {
      form({ message }) {
        line('?', `${message}  yes`);
        return { action: 'accept', content: {} };
      },
    },
  });
  const ask = async (sql) => {
    line('→', sql);
    const { isError, content, structuredContent } = await client.call('query_scales', { sql });
    if (isError) line('✗', content[0].text);
    else for (const row of structuredContent.rows.slice(0, 3)) line('←', JSON.stringify(row));
    return structuredContent;
  };
  try {
    print('\nA database of 300,000 readings: named queries are tools, and their parameters are bound by the driver:');
    const from = '2026-04-01 06:00:00';
    const gain = await client.call('gain_by_apiary', { from, to: '2026-05-01 06:00:00' });
    for (const { apiary, gain_kg } of gain.structuredContent.rows.slice(0, 3)) line('←', `${apiary.padEnd(12)} ${gain_kg} kg in April`);

    print('\nOne tool answers a SELECT of the model’s own, and only that:');
    await ask('select hive, round(avg(kg), 1) as kg from readings group by hive order by kg desc limit 3');
    await ask('select hive, avg(kgs) from readings group by hive');
    await ask("select writefile('/tmp/out', hive) from readings");
    await ask('select * from keepers');

    print('\nRows are resources: a page follows the other, a row names the rows it points to:');
    const read = async (uri) => JSON.parse((await client.read(uri)).contents[0].text);
    const page = await read('scales://tables/readings?limit=2');
    for (const row of page.rows) line('←', JSON.stringify(row));
    line('·', `next: ${decodeURIComponent(page.next)}`);
    const uri = 'scales://rows/readings/MR-03,2026-05-01%2006:00:00';
    const { row, links } = await read(uri);
    line('←', `${row.hive} at ${row.at}: ${row.kg} kg; ${links.hive}`);

    print('\nA query that writes says so, and a person confirms what it would do; whoever watches the row is told:');
    let told;
    const changed = new Promise((resolve) => (told = resolve));
    const unwatch = await client.watch(uri, told);
    await read(uri);
    let written = row.kg;
    for (let isTold = false; !isTold;) {
      written = Number((written + 0.1).toFixed(2));
      const { structuredContent } = await client.call('correct_reading', { hive: row.hive, at: row.at, kg: written });
      line('←', `${structuredContent.affected} row was written`);
      isTold = await Promise.race([changed.then(() => true), new Promise((resolve) => setTimeout(() => resolve(false), 20_000))]);
    }
    line('←', `changed: ${decodeURIComponent(await changed)}`);
    await unwatch();
    await client.call('correct_reading', { hive: row.hive, at: row.at, kg: row.kg });
  } finally {
    await client.close();
    await scales.close();
  }
}

import { copyFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect, defineServer, type Source } from '../../src/index.js';
import { freezeServer, thawServer } from '../../src/offers/thaw.js';
import { sourceChecks } from '../../src/source-checks.js';
import { freshFolder, jexo } from '../support/command-line.js';

const example = fileURLToPath(new URL('../../../../examples/source-of-your-own/', import.meta.url));
const { wrapTable } = (await import(join(example, 'table-source.mjs'))) as { wrapTable(file: string, computed?: object): Source };
const hives = join(example, 'hives.csv');

describe('the worked source, a CSV file', () => {
  for (const { name, run } of sourceChecks(() => wrapTable(hives, { double: ({ kg }: { kg: string }) => 2 * Number(kg) }))) test(name, run);

  test('serves rows with computed columns, completes keys, explains bad lines, follows the file and freezes', async () => {
    const listed = await jexo(['call', 'server.mjs', 'find_in_hives', 'column=apiary', 'value=Millrace', '--json'], { cwd: example });
    expect(JSON.parse(listed.stdout)).toMatchObject({ content: [{ text: expect.stringContaining('"perBox":20.6') }] });
    const file = join(freshFolder('table'), 'hives.csv');
    copyFileSync(hives, file);
    writeFileSync(file, 'hive,kg\nMR-01,41\nMR-02\nMR-03,38\n');
    let told = 0;
    const server = defineServer({ name: 'table', version: '1.0.0', offers: [wrapTable(file)] });
    const client = await connect(server, { onResourcesChanged: () => told++ });
    expect((await client.resources()).map(({ uri }) => uri)).toEqual(['hives://MR-01', 'hives://MR-03']);
    expect((await client.complete({ type: 'ref/resource', uri: 'hives://{key}' }, { name: 'key', value: 'MR' })).values).toEqual([
      'MR-01',
      'MR-03',
    ]);
    expect((await server.catalogue()).omitted).toEqual([
      expect.objectContaining({ name: 'MR-02', where: `${file}:3`, why: 'it has 1 cells, and there are 2 columns' }),
    ]);
    const frozen = await freezeServer(server);
    writeFileSync(file, 'hive,kg\nUC-04,39\n');
    for (let tries = 0; tries < 300 && (await client.resources())[0]?.uri !== 'hives://UC-04'; tries++)
      await new Promise((resolve) => setTimeout(resolve, 10));
    expect([(await client.resources()).map(({ uri }) => uri), told > 0]).toEqual([['hives://UC-04'], true]);
    await client.close();
    await server.close();
    const thawed = await connect(thawServer(defineServer({ name: 'table', version: '1.0.0', offers: [wrapTable(file)] }), frozen));
    expect((await thawed.resources()).length).toBe(2);
    await thawed.close();
  });

  test('its kind of target is one that connect() takes', async () => {
    const { default: kind } = (await import(join(example, 'table-source.mjs'))) as { default: never };
    const file = join(freshFolder('table'), 'hives.table.csv');
    copyFileSync(hives, file);
    const client = await connect(file, { kinds: [kind] });
    expect((await client.tools()).map(({ name }) => name)).toEqual(['find_in_hives.table']);
    await client.close();
  });
});

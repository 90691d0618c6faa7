import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { defineServer, offers, serveHttp } from '../../src/index.js';
import { freezeServer, thawServer } from '../../src/offers/thaw.js';
import { hold } from '../../src/engine/servable.js';
import { connect } from '../support/connect.js';
import { wrapReadings } from './readings-source.js';

let folder = '';
let file = '';
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'jexo-test-source-'));
  file = join(folder, 'scales.json');
  writeFileSync(file, JSON.stringify([{ hive: 'MR-03', kg: 31 }]));
});
afterEach(() => rmSync(folder, { recursive: true }));

const server = (journal: string[], of = file) =>
  defineServer({ name: 'scales', version: '1.0.0', offers: [offers([wrapReadings(of, journal)], { prefix: 'scale_' })] });

test('a source gets settings, reports progress, and names its files and the settings it wants', async () => {
  const own = server([]);
  const seen: unknown[][] = [];
  await own.ready({ settings: { SCALE_UNIT: 'kilograms' }, progress: (...progress) => seen.push(progress) });
  expect(seen).toEqual([[1, 1, 'MR-03']]);
  const { files, settings } = await own.catalogue();
  expect([files, settings.map(({ variable }) => variable)]).toEqual([[file], ['SCALE_UNIT']]);
  const client = await connect(own);
  expect(await client.call('scale_heaviest')).toMatchObject({ content: [{ text: 'MR-03: 31 kilograms' }] });
  await client.close();
});

test('a read that nobody waits for any more ends, and the next one is a new one', async () => {
  const own = server([]);
  await expect(own.ready({ signal: AbortSignal.abort(new Error('nobody waits')) })).rejects.toThrow('nobody waits');
  await own.ready();
});

test('it is watched while somebody is connected, and a change is told', async () => {
  const journal: string[] = [];
  const own = server(journal);
  let told!: () => void;
  const changed = new Promise<void>((resolve) => (told = resolve));
  const client = await connect(own, { onToolsChanged: () => undefined, onResourcesChanged: () => told() });
  expect(journal).toContain('watch');
  writeFileSync(file, JSON.stringify([{ hive: 'HL-11', kg: 28 }]));
  await changed;
  expect((await client.resources()).map(({ uri }) => uri)).toEqual(['scale://HL-11']);
  await client.close();
  expect(journal.at(-1)).toBe('unwatch');
});

test('what a pack carries of it stands in for its files', async () => {
  const frozen = await freezeServer(server([]));
  expect(JSON.parse(JSON.stringify(frozen))).toEqual(frozen);
  rmSync(file);
  const client = await connect(thawServer(server([]), frozen));
  expect(await client.call('scale_heaviest')).toMatchObject({ content: [{ text: 'MR-03: 31 kg' }] });
  await client.close();
  expect(() => thawServer(server([], join(folder, 'others.json')), frozen)).toThrow(
    expect.objectContaining({ code: 'JEXO_PACK', message: expect.stringContaining('scales.json') }),
  );
});

test('it is closed with the last thing that serves it, and read again when it is served again', async () => {
  const journal: string[] = [];
  const own = server(journal);
  const [first, second] = await Promise.all([serveHttp(own), serveHttp(own)]);
  const client = await connect(first.url);
  await client.close();
  await first.close();
  expect(journal).not.toContain('close');
  await second.close();
  expect(journal.filter((each) => each === 'close')).toHaveLength(1);
  const third = await serveHttp(own);
  const again = await connect(third.url);
  expect((await again.tools()).map(({ name }) => name)).toEqual(['scale_heaviest']);
  expect(journal.filter((each) => each.startsWith('read'))).toHaveLength(2);
  await again.close();
  await third.close();
});

test('letting go twice closes once', async () => {
  const journal: string[] = [];
  const own = server(journal);
  const release = hold(own);
  await Promise.all([release(), release()]);
  expect(journal).toEqual(['close']);
});

test('a reload closes the sources that were replaced, and no other', async () => {
  const [before, after, stays]: string[][] = [[], [], []];
  const kept = wrapReadings(file, stays);
  const named = (journal: string[]) => offers([wrapReadings(file, journal)], { only: ['heaviest'] });
  const rest = offers([kept], { except: ['heaviest'] });
  const own = defineServer({ name: 'scales', version: '1.0.0', offers: [named(before!), rest] });
  await own.ready();
  await own.reload(defineServer({ name: 'scales', version: '1.1.0', offers: [named(after!), rest] }));
  expect([before!.at(-1), after!.at(-1), stays!.at(-1)]).toEqual(['close', 'read 1', 'read 1']);
  expect(own.info.version).toBe('1.1.0');
});

test('closing ends sessions and running tasks, and every source is closed though one fails', async () => {
  const journal: string[] = [];
  const failing = {
    ...wrapReadings(file),
    name: 'failing',
    read: async () => ({ offers: [] }),
    close: () => Promise.reject(new Error('stuck')),
  };
  const own = defineServer({ name: 'scales', version: '1.0.0', offers: [failing, wrapReadings(file, journal)] });
  let ended = false;
  const client = await connect(own, { onClosed: () => (ended = true) });
  await expect(own.close()).rejects.toThrow('stuck');
  expect([ended, journal.at(-1)]).toEqual([true, 'close']);
  await client.close();
});

test('a port that is taken leaves nothing held', async () => {
  const journal: string[] = [];
  const taken = await serveHttp(server([]));
  await expect(serveHttp(server(journal), { port: taken.port })).rejects.toMatchObject({ code: 'JEXO_PORT_IN_USE' });
  expect(journal.at(-1)).toBe('close');
  await taken.close();
});

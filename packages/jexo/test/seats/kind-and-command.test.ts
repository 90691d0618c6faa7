import { jest } from '@jest/globals';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { commands } from '../../src/cli/commands/index.js';
import { runCli } from '../../src/cli/run-cli.js';
import { connect } from '../support/connect.js';
import { readingsKind } from './readings-kind.js';
import { command as weigh } from './weigh-command.js';

let folder = '';
let file = '';
const written: string[] = [];
const noted: string[] = [];
const spies: { mockRestore(): void }[] = [];
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'jexo-test-kind-'));
  file = join(folder, 'season.scales.json');
  writeFileSync(file, JSON.stringify([{ hive: 'MR-03', kg: 31 }]));
  const keep = (into: string[]) => (chunk: unknown, done?: unknown) => {
    into.push(String(chunk));
    if (typeof done === 'function') (done as () => void)();
    return true;
  };
  // Commands write to the streams of this process, which are the test's own while it runs.
  spies.push(
    jest.spyOn(process.stdout, 'write').mockImplementation(keep(written) as never),
    jest.spyOn(process.stderr, 'write').mockImplementation(keep(noted) as never),
  );
});
beforeEach(() => {
  written.length = 0;
  noted.length = 0;
});
afterAll(() => {
  spies.forEach((spy) => spy.mockRestore());
  rmSync(folder, { recursive: true });
});

const run = (...words: string[]) =>
  runCli(words, { commands: { ...commands, weigh: async () => ({ command: weigh }) }, kinds: [readingsKind] });

test('a kind of one’s own works in connect() and in every command, with its options', async () => {
  const client = await connect(file, { kinds: [readingsKind], options: { apiary: 'Miller’s Ridge' } });
  expect(client.server.serverInfo.title).toBe('Scales of Miller’s Ridge');
  await client.close();
  expect(await run('list', file, '--apiary', 'Heather Lane', '--json')).toBe(0);
  const listed = JSON.parse(written.join('')) as { server: { serverInfo: { title: string } }; tools: { name: string }[] };
  expect([listed.server.serverInfo.title, listed.tools.map(({ name }) => name)]).toEqual(['Scales of Heather Lane', ['heaviest']]);
});

test('the help of a command shows it, with its options', async () => {
  expect(await run('list', '--help')).toBe(0);
  const help = written.join('');
  expect(help).toContain('season.scales.json');
  expect(help).toContain('of a file of readings: where the scales stand');
});

test('an option that means nothing to a target is refused', async () => {
  expect(await run('list', file, '--base-url', 'http://a.example')).toBe(2);
  expect(noted.join('')).toContain('--base-url means nothing to a file of readings');
});

test('register writes what a host starts, options and choice included', async () => {
  const config = join(folder, 'hosts.json');
  writeFileSync(config, '{}');
  expect(await run('register', file, '--config', config, '--print', '--apiary', 'Heather Lane', '--only', 'heaviest')).toBe(0);
  const printed = JSON.parse(written.join('')) as Record<string, { args: string[] }>;
  const { args } = Object.values(printed)[0]!;
  expect(args.slice(1)).toEqual(['serve', file, '--only', 'heaviest', '--apiary', 'Heather Lane']);
  expect(readFileSync(config, 'utf8')).toBe('{}');
});

test('a kind that cannot be packed says so', async () => {
  expect(await run('pack', file, '--out', folder)).toBe(3);
  expect(noted.join('')).toContain('is a file of readings, which cannot be packed');
});

test('a command of one’s own runs beside the others: its options are read, its exit code is used', async () => {
  expect(await run('weigh', file, '--least', '30')).toBe(0);
  expect(written.join('')).toBe('MR-03: 31 kg\n');
  expect(await run('weigh', file, '--least', '40')).toBe(1);
  expect(await run('weigh', file, '--least', 'much')).toBe(2);
  expect(noted.join('')).toContain('--least must be a whole number from 0 to 200; "much" is not.');
  expect(await run('wiegh', file)).toBe(2);
  expect(noted.join('')).toContain('Did you mean weigh?');
});

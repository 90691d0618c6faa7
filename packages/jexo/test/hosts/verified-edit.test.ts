import { lstatSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import fc from 'fast-check';
import { parse as parseToml, stringify as stringifyToml } from 'smol-toml';
import { stringify as stringifyYaml } from 'yaml';
import { backupOf, openHostFile, withEntry, withoutEntry, writeHostFile } from '../../src/hosts/host-file.js';
import type { HostEntry } from '../../src/hosts/host-entry.js';
import { freshFolder } from '../support/command-line.js';

const folder = freshFolder('verified');
const ours: HostEntry = { kind: 'command', command: '/usr/bin/node', args: ['serve', '/a b/hives.ts'], env: { TOKEN: 'x"y' } };
let count = 0;
const file = (name: string, text: string) => {
  const made = join(folder, `${++count}-${name}`);
  writeFileSync(made, text);
  return made;
};
const json = (value: unknown) => JSON.parse(JSON.stringify(value)) as Record<string, Record<string, unknown>>;

/** TOML in every way a map of servers can be written. */
const tomls: Record<string, string> = {
  'inline entries': '# head\n[servers]\nhives = {command = "node", args = ["a"]} # keep\n# tail\nother = {command = "x"}\n',
  'an inline map': 'servers = { hives = { command = "node" }, other = { command = "x" } }\nname = "x"\n',
  'dotted keys': 'servers.hives.command = "node"\nservers.hives.args = []\nservers.other.command = "x"\nz = 1\n',
  tables: '# c\r\n[servers.hives]\r\ncommand = "node" # why\r\n[servers.hives.env]\r\nA = "1"\r\n\r\n[servers.other]\r\ncommand = "x"\r\n',
  'a quoted name': '[servers."hives"]\ncommand = "node"\n\n[servers.other]\ncommand = "x"\n',
  'lists of tables about it': '[[x]]\na = 1\n[servers.hives]\ncommand = "n"\n[servers.other]\ncommand = "x"\n[[y]]\nb = 2\n',
};

describe.each(Object.entries(tomls))('TOML with %s', (_what, text) => {
  const before = json(parseToml(text));

  test('has an entry replaced, and nothing else', async () => {
    const opened = await openHostFile(file('a.toml', text));
    const after = json(parseToml(withEntry(opened, 'hives', ours, true)));
    const { kind: _, ...written } = ours;
    expect(after).toEqual({ ...before, servers: { ...before.servers, hives: written } });
  });

  test('gets an entry, and nothing else', async () => {
    const opened = await openHostFile(file('a.toml', text));
    const after = json(parseToml(withEntry(opened, 'fresh', ours, false)));
    expect(after).toEqual({ ...before, servers: { ...before.servers, fresh: expect.objectContaining({ command: '/usr/bin/node' }) } });
  });

  test('loses an entry, and nothing else', async () => {
    const opened = await openHostFile(file('a.toml', text));
    const { hives: _, ...others } = before.servers!;
    expect(json(parseToml(await withoutEntry(opened, 'hives')))).toEqual({ ...before, servers: others });
  });
});

test('whatever the values, a changed file reads as the configuration with just that change', async () => {
  const word = fc.string({ unit: 'grapheme-ascii', maxLength: 12 });
  const config = fc.record({
    servers: fc.dictionary(
      fc.stringMatching(/^[a-z][a-z0-9]{0,5}$/),
      fc.record({ command: word, args: fc.array(word, { maxLength: 3 }) }),
      { minKeys: 1, maxKeys: 3 },
    ),
    note: word,
  });
  await fc.assert(
    fc.asyncProperty(config, fc.constantFrom('a.json', 'a.yaml', 'a.toml'), async (value, kind) => {
      const write: Record<string, (value: object) => string> = {
        'a.json': (each) => JSON.stringify(each),
        'a.yaml': (each) => stringifyYaml(each),
        'a.toml': (each) => stringifyToml(each),
      };
      const made = file(kind, write[kind]!(value));
      const opened = await openHostFile(made, 'servers');
      await writeHostFile(opened, withEntry(opened, 'ours', ours, false));
      const again = await openHostFile(made, 'servers');
      const { kind: _, ...written } = ours;
      expect(json(again.parsed.value)).toEqual({ ...value, servers: { ...value.servers, ours: written } });
      expect(json((await openHostFile(file(kind, await withoutEntry(again, 'ours')), 'servers')).parsed.value)).toEqual(value);
    }),
    { numRuns: 60 },
  );
});

test('a backup does not follow a link out of its folder', async () => {
  const made = file('linked.json', '{"servers":{"a":{"command":"x"}}}');
  const victim = file('victim.txt', 'precious');
  symlinkSync(victim, backupOf(made));
  const opened = await openHostFile(made);
  await writeHostFile(opened, withEntry(opened, 'hives', ours, false));
  expect(readFileSync(victim, 'utf8')).toBe('precious');
  expect(lstatSync(backupOf(made)).isSymbolicLink()).toBe(false);
  expect(readFileSync(backupOf(made), 'utf8')).toBe('{"servers":{"a":{"command":"x"}}}');
});

import { chmodSync, chownSync, existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { connect } from '../../src/index.js';
import { isOurs } from '../../src/own-folder.js';
import { cooperative, freshFolder, hives, jexo, start } from '../support/command-line.js';

const folder = freshFolder('targets');
const write = (name: string, text: string) => {
  writeFileSync(join(folder, name), text);
  return join(folder, name);
};

test('connect takes an entry of a host application’s configuration', async () => {
  const cli = join(process.cwd(), 'packages/jexo/dist/cli.mjs');
  const command = { command: process.execPath, args: [cli, 'serve', join(cooperative, 'hives.ts')] };
  const file = write('hosts.json', JSON.stringify({ servers: { hives: command } }));
  const client = await connect(`${file}#hives`);
  expect((await client.tools()).map(({ name }) => name)).toContain('mix_syrup');
  await client.close();
  await expect(connect(`${file}#bees`)).rejects.toMatchObject({ code: 'JEXO_HOST_FILE', next: 'Its entries are: hives.' });
});

describe('a module that is compiled', () => {
  test('has its own place, and the words of it in texts untouched', async () => {
    write('other.ts', `export const here = import.meta.url; export const words = 'import.meta.dirname';`);
    const file = write(
      'place.ts',
      `#!/usr/bin/env node
import { here, words } from './other.js';
/** Where it is. */
export function places(): string[] {
  return ["import.meta.url", \`\${import.meta.url} import.meta.url\`, import.meta.dirname, import.meta.filename, here, words, String(/import.meta.url/)];
}
export function fails(): string { throw new RangeError('on line 8'); }
`,
    );
    const client = await connect(file);
    const { structuredContent } = await client.call('places');
    expect(structuredContent).toEqual({
      result: [
        'import.meta.url',
        `file://${file} import.meta.url`,
        folder,
        file,
        `file://${join(folder, 'other.ts')}`,
        'import.meta.dirname',
        '/import.meta.url/',
      ],
    });
  });

  // A bundler that cannot be started shows whether it was wanted.
  const withoutBundler = { ESBUILD_BINARY_PATH: '/bin/false' };

  test('is compiled once, and again when a file it is made of has changed', async () => {
    const cache = join(folder, 'cache-once');
    write('part.ts', `export const kg = 1;`);
    const file = write('whole.ts', `import { kg } from './part.js';\n/** How much. */\nexport function weigh(): number { return kg; }`);
    const weigh = (env: Record<string, string> = {}) => jexo(['call', file, 'weigh', '--json'], { env: { JEXO_CACHE: cache, ...env } });
    expect((await weigh()).stdout).toContain('"result": 1');
    expect((await weigh(withoutBundler)).stdout).toContain('"result": 1');
    write('part.ts', `export const kg = 2;`);
    expect((await weigh(withoutBundler)).code).not.toBe(0);
    expect((await weigh()).stdout).toContain('"result": 2');
    expect((await weigh(withoutBundler)).stdout).toContain('"result": 2');
    // A file that was changed where it lies is not run.
    const [compiled] = readdirSync(join(cache, 'compiled')).filter((name) => name.endsWith('.mjs'));
    for (const name of readdirSync(join(cache, 'compiled')).filter((each) => each.endsWith('.mjs')))
      writeFileSync(join(cache, 'compiled', name), 'export function weigh() { return 666; }');
    expect(compiled).toBeDefined();
    expect((await weigh()).stdout).toContain('"result": 2');
    expect(statSync(cache).mode & 0o077).toBe(0);
  }, 120_000);

  const asRoot = process.getuid?.() === 0 ? test : test.skip;
  asRoot('is never taken from a folder that belongs to somebody else', async () => {
    const cache = join(folder, 'cache-theirs');
    mkdirSync(join(cache, 'compiled'), { recursive: true });
    chmodSync(cache, 0o777);
    chownSync(cache, 65534, 65534);
    const file = write('mine.ts', `/** Whose. */\nexport function whose(): string { return 'mine'; }`);
    const { stdout } = await jexo(['call', file, 'whose'], { env: { JEXO_CACHE: cache } });
    expect(stdout).toBe('mine\n');
    expect(readdirSync(join(cache, 'compiled'))).toEqual([]);
    expect(isOurs(cache)).toBe(false);
  });

  asRoot('is not run when somebody else has put it there', async () => {
    const cache = join(folder, 'cache-mixed');
    const file = write('mixed.ts', `/** Whose. */\nexport function whose(): string { return 'mine'; }`);
    const whose = () => jexo(['call', file, 'whose'], { env: { JEXO_CACHE: cache } });
    await whose();
    const compiled = join(cache, 'compiled');
    const [note] = readdirSync(compiled).filter((name) => name.endsWith('.json'));
    const planted = JSON.parse(readFileSync(join(compiled, note!), 'utf8')) as { code: string };
    const { createHash } = await import('node:crypto');
    const code = `export function whose() { return 'theirs'; }`;
    planted.code = createHash('sha256').update(code).digest('hex').slice(0, 24);
    const target = join(compiled, `${note!.slice(0, -'.json'.length)}-${planted.code}.mjs`);
    writeFileSync(join(compiled, note!), JSON.stringify(planted));
    writeFileSync(target, code);
    chownSync(target, 65534, 65534);
    chownSync(join(compiled, note!), 65534, 65534);
    expect((await whose()).stdout).toBe('mine\n');
    expect(existsSync(target)).toBe(true);
  });
});

test('what a module says to its own server reaches those who subscribed, however the server was put together', async () => {
  const own = freshFolder('speaks');
  const library = join(process.cwd(), 'packages/jexo/dist/index.mjs');
  writeFileSync(
    join(own, 'scale.mjs'),
    `import { setFlagsFromString } from 'node:v8';
import { runInNewContext } from 'node:vm';
import { defineServer, resource, tool } from ${JSON.stringify(relative(own, library))};
setFlagsFromString('--expose-gc');
const collectGarbage = runInNewContext('gc');
const server = defineServer({ name: 'scale', version: '1.0.0', offers: [
  resource('scale://MR-03', {}, () => '31 kg'),
  tool('weigh', { description: 'Weighs.' }, async () => {
    await new Promise(setImmediate);
    collectGarbage(); // the servers between this one and the one that is served must stay
    server.updated('scale://MR-03');
    return 'weighed';
  }),
] });
export default server;`,
  );
  for (const words of [[], ['--name', 'other'], ['--log', join(own, 'calls.log')], ['--name', 'other', '--metrics'], ['--watch']]) {
    const running = await start(['serve', join(own, 'scale.mjs'), hives, '--http', '0', '--json', ...words]);
    const client = await connect(running.said.address as string);
    let changed: (uri: string) => void = () => {};
    const told = new Promise<string>((resolve) => (changed = resolve));
    await client.watch('scale://MR-03', changed);
    await client.call('weigh');
    expect([words, await told]).toEqual([words, 'scale://MR-03']);
    await client.close();
    await running.stop();
  }
});

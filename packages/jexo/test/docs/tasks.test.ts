import { spawn, spawnSync } from 'node:child_process';
import { cpSync, existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { cooperative, freshFolder, hives } from '../support/command-line.js';
import { root } from './demo-world.js';

/** The tasks of the README: their names, commands and files. */
function tasks() {
  const [, text] = /<!-- tasks -->([\s\S]*)<!-- \/tasks -->/.exec(readFileSync(join(root, 'README.md'), 'utf8'))!;
  return text!
    .split(/^(?=\*\*)/m)
    .filter((part) => part.startsWith('**'))
    .map((part) => ({
      name: /\*\*(.+?)\*\*/.exec(part)![1]!,
      commands: [...part.matchAll(/```sh\n([\s\S]*?)```/g)].flatMap(([, block]) => block!.trim().split('\n')),
      files: [...part.matchAll(/```js\n\/\/ (\S+)\n([\s\S]*?)```/g)].map(([, file, code]) => [file!, code!] as const),
    }));
}

/** Declarations that what is public leads to, and that are not published. */
function unreached(published: readonly string[]): string[] {
  const folder = join(root, 'packages/jexo');
  const { exports } = JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8')) as {
    exports: Record<string, string | { types: string }>;
  };
  const waiting = Object.values(exports).flatMap((each) => (typeof each === 'string' ? [] : [each.types.replace('./', '')]));
  const seen = new Set<string>();
  for (let file = waiting.pop(); file !== undefined; file = waiting.pop()) {
    if (seen.has(file)) continue;
    seen.add(file);
    // Examples in comments import what is nobody’s here.
    const text = existsSync(join(folder, file)) ? readFileSync(join(folder, file), 'utf8').replaceAll(/\/\*[\s\S]*?\*\//g, '') : '';
    for (const [, from] of text.matchAll(/(?:from|import\()\s*['"](\.[^'"]+)\.js['"]/g)) waiting.push(join(dirname(file), `${from!}.d.ts`));
  }
  expect(seen.size).toBeGreaterThan(100);
  return [...seen].filter((file) => !published.includes(file));
}

/** Runs a command until it ends, or until something answers at the port that it names. */
async function until(command: string, cwd: string): Promise<string> {
  const env = { ...process.env, NO_COLOR: '1', npm_config_audit: 'false', npm_config_fund: 'false', npm_config_prefer_offline: 'true' };
  const child = spawn('bash', ['-c', command], { cwd, env, detached: true });
  let said = '';
  child.stdout.on('data', (part: Buffer) => (said += part.toString()));
  child.stderr.on('data', (part: Buffer) => (said += part.toString()));
  let code: number | null | undefined;
  const closed = new Promise<void>((resolve) => child.once('close', (ended) => ((code = ended), resolve())));
  const [, port] = /--http (\d+)/.exec(command) ?? (command.includes('app.mjs') ? ['', '4381'] : []);
  if (port === undefined) {
    await closed;
    if (code !== 0) throw new Error(`${command}: ${code}\n${said}`);
    return said;
  }
  const hello = {
    jsonrpc: '2.0',
    id: 1,
    method: 'initialize',
    params: { protocolVersion: '2025-06-18', capabilities: {}, clientInfo: { name: 't', version: '1' } },
  };
  const headers = { 'content-type': 'application/json', accept: 'application/json, text/event-stream' };
  try {
    for (;;) {
      const answer = await fetch(`http://127.0.0.1:${port}/mcp`, { method: 'POST', headers, body: JSON.stringify(hello) }).catch(
        () => undefined,
      );
      if (answer !== undefined) return `${answer.status} ${await answer.text()}`;
      if (code !== undefined) throw new Error(`${command}: ${code}\n${said}`);
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
  } finally {
    process.kill(-child.pid!, 'SIGTERM');
    await closed;
  }
}

test('the ten tasks of the README, word for word, in an empty folder with the package as it is published', async () => {
  const tarball = freshFolder('tarball');
  const packed = spawnSync('npm', ['pack', '-w', 'packages/jexo', '--pack-destination', tarball, '--json'], {
    cwd: root,
    encoding: 'utf8',
  });
  const [{ filename, unpackedSize, files: published }] = JSON.parse(packed.stdout) as [
    { filename: string; unpackedSize: number; files: { path: string }[] },
  ];
  // What installing costs beside the bundler, which is optional.
  expect(unpackedSize).toBeLessThan(5_000_000);
  expect(unreached(published.map(({ path }) => path))).toEqual([]);
  const folder = freshFolder('ten-tasks');
  await until(`npm init -y && npm install ${join(tarball, filename)}`, folder);
  cpSync(hives, join(folder, 'hives.ts'));
  cpSync(join(cooperative, 'registry.openapi.yaml'), join(folder, 'registry.openapi.yaml'));
  cpSync(join(cooperative, 'handbook'), join(folder, 'handbook'), { recursive: true });
  mkdirSync(join(folder, 'made'));
  writeFileSync(
    join(folder, 'made/make.mjs'),
    `import Database from 'libsql';\nconst db = new Database('scales.sqlite');\ndb.exec("create table hives (id text primary key); insert into hives values ('MR-01'), ('MR-02')");\n`,
  );
  const { serveRegistry } = (await import(join(cooperative, 'registry.mjs'))) as {
    serveRegistry(options: object): Promise<{ close(): unknown }>;
  };
  const registry = await serveRegistry({ port: 4779, token: 'beeswax' });
  const all = tasks();
  expect(all.map(({ name }) => name)).toHaveLength(10);
  const shown: Record<string, string> = {};
  try {
    for (const { name, commands: lines, files } of all) {
      expect([name, lines.length <= 3 && lines.length > 0]).toEqual([name, true]);
      for (const [file, code] of files) writeFileSync(join(folder, file), code);
      for (const line of lines) {
        // What a person has: a database.
        if (line.includes('query_scales')) await until('node made/make.mjs', folder);
        shown[name] = await until(line, folder);
      }
    }
  } finally {
    await registry.close();
  }
  expect(shown).toMatchObject({
    'Wrap functions': expect.stringContaining('mix_syrup'),
    'Serve and watch': expect.stringContaining('200'),
    'Wrap a REST API with a secret': expect.stringContaining('MR-03'),
    'Let a model read a database': expect.stringContaining('2'),
    'Search a folder.': expect.stringContaining('feeding/syrup.md'),
    'Register it with a host application': expect.stringContaining('servers.json'),
    'Test it in CI': expect.stringContaining('1 of 1'),
    'Pack it as a container.': expect.stringContaining('deploy'),
    'Mount it in an app you have': expect.stringContaining('"protocolVersion"'),
    'Protect it by keys.': expect.stringContaining('401'),
  });
  expect(relative(root, folder).startsWith('..')).toBe(true);
}, 240_000);

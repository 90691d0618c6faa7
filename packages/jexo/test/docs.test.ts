import { spawn, spawnSync } from 'node:child_process';
import { cpSync, existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import { parse } from 'yaml';
import { defineServer, wrapFolder } from '../src/index.js';
import { commands } from '../src/cli/commands/index.js';
import { cooperative, freshFolder, hives, jexo } from './support/command-line.js';
import { connect } from './support/connect.js';

const root = fileURLToPath(new URL('../../../', import.meta.url));
const pages = [
  'README.md',
  'CONTRIBUTING.md',
  'SECURITY.md',
  'ARCHITECTURE.md',
  ...readdirSync(join(root, 'docs'))
    .filter((file) => file.endsWith('.md'))
    .map((file) => `docs/${file}`),
];
const textOf = (page: string) => readFileSync(join(root, page), 'utf8');

/** As the pages of hosting services make them of headings. */
const anchorOf = (heading: string) =>
  heading
    .trim()
    .toLowerCase()
    .replaceAll(/[`*[\]()]/g, '')
    .replaceAll(/[^\p{L}\p{N}\s_-]/gu, '')
    .replaceAll(/\s/g, '-');

test('every link of every document leads somewhere', () => {
  const broken: string[] = [];
  for (const page of pages) {
    const text = textOf(page).replaceAll(/```[\s\S]*?```/g, '');
    for (const [, target] of text.matchAll(/\]\(([^)\s]+)\)/g)) {
      if (/^[a-z]+:/.test(target!)) continue;
      const [path = '', anchor] = target!.split('#');
      const file = path === '' ? join(root, page) : join(root, dirname(page), path);
      if (!existsSync(file)) broken.push(`${page}: ${target!}`);
      else if (anchor !== undefined && file.endsWith('.md')) {
        const anchors = [...readFileSync(file, 'utf8').matchAll(/^#+\s+(.*)$/gm)].map(([, heading]) => anchorOf(heading!));
        if (!anchors.includes(anchor)) broken.push(`${page}: ${target!}`);
      }
    }
  }
  expect(broken).toEqual([]);
});

test('no document names a command or an option that does not exist', async () => {
  const wrong: string[] = [];
  const helps = new Map<string, string>();
  const help = async (name: string) => helps.set(name, (await jexo([name, '--help'], { env: { COLUMNS: '300' } })).stdout);
  await Promise.all(Object.keys(commands).map(help));
  const all = [...helps.values()].join('\n');
  for (const page of pages)
    for (const [, line] of textOf(page).matchAll(/(?:^|[\s`(])(?:npx )?jexo ([a-z][^`\n]*)/gm)) {
      const [command, ...rest] = line!
        .split(/\s+-- |\s+#|\s+\|\|?\s|\s+&&\s|\s+>\s/)[0]!
        .trim()
        .split(/\s+/);
      if (!helps.has(command!)) {
        // Prose says “jexo is”; a command is followed by something that commands take.
        if (/^(?:[a-z-]+)$/.test(command!) && rest.some((word) => word.startsWith('--'))) wrong.push(`${page}: jexo ${line!}`);
        continue;
      }
      for (const word of rest) {
        const [, option] = /^(--[a-z][a-z-]*)/.exec(word) ?? [];
        // Kinds of targets bring options that the help of a command shows with all of them.
        if (
          option !== undefined &&
          option !== '--' &&
          !new RegExp(`${option}\\b`).test(helps.get(command!)!) &&
          !new RegExp(`${option}\\b`).test(all)
        )
          wrong.push(`${page}: jexo ${command!} ${option}`);
      }
    }
  expect(wrong).toEqual([]);
}, 60_000);

test('the reference is what the code says', () => {
  const { status, stderr } = spawnSync(process.execPath, ['scripts/reference.mjs', '--check'], { cwd: root, encoding: 'utf8' });
  expect([status, stderr]).toEqual([0, '']);
});

test('who asks in their own words finds the page among the first three: 95 of 100 times', async () => {
  const { questions } = parse(textOf('docs.questions.yaml')) as { questions: { ask: string; pages: string[] }[] };
  expect(questions.length).toBeGreaterThanOrEqual(20);
  const client = await connect(
    defineServer({ name: 'docs', version: '1.0.0', offers: [wrapFolder(join(root, 'docs'), { search: true })] }),
  );
  const missed: string[] = [];
  for (const { ask, pages: wanted } of questions) {
    const { structuredContent } = await client.call('search_docs', { words: ask, limit: 3 });
    const hits = (structuredContent as { hits: { uri: string }[] }).hits.map(({ uri }) => uri.replace(/^docs:\/\//, '').replace(/#.*/, ''));
    if (!hits.some((hit) => wanted.includes(hit))) missed.push(`${ask} ${hits.join()}`);
  }
  await client.close();
  expect([1 - missed.length / questions.length >= 0.95, missed.length > 1 ? missed : []]).toEqual([true, []]);
});

/** The tasks of the README: their names, commands and files. */
function tasks() {
  const [, text] = /<!-- tasks -->([\s\S]*)<!-- \/tasks -->/.exec(textOf('README.md'))!;
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

test('the documents as a site: every page, every link between them, search, and nothing else', async () => {
  const child = spawn(process.execPath, ['scripts/docs-site.mjs'], { cwd: root, env: { ...process.env, PORT: '0' } });
  try {
    const base = await new Promise<string>((resolve, reject) => {
      child.stdout.on('data', (part: Buffer) => {
        const [, url] = /(http:\S+)/.exec(part.toString()) ?? [];
        if (url !== undefined) resolve(url);
      });
      child.once('close', () => reject(new Error('it has ended')));
    });
    const seen = new Map<string, string>();
    const waiting = ['index.html'];
    for (let next = waiting.pop(); next !== undefined; next = waiting.pop()) {
      if (seen.has(next)) continue;
      const answer = await fetch(base + next);
      seen.set(next, await answer.text());
      expect([next, answer.status]).toEqual([next, 200]);
      for (const [, href] of seen.get(next)!.matchAll(/href="([\w-]+\.html)/g)) waiting.push(href!);
    }
    expect(seen.size).toBe(readdirSync(join(root, 'docs')).filter((file) => file.endsWith('.md')).length);
    for (const text of seen.values())
      for (const [, page, anchor] of text.matchAll(/href="([\w-]+\.html)#([^"]+)"/g))
        expect([page, seen.get(page!)!.includes(`id="${anchor!}"`)]).toEqual([page, true]);
    const found = await (await fetch(`${base}search?words=${encodeURIComponent('a tool is never chosen')}`)).text();
    const [, first, section] = /class="hit"><a href="([\w-]+\.html)#([^"]+)"/.exec(found)!;
    expect(first).toBe('troubleshooting.html');
    expect(seen.get(first!)).toContain(`id="${section!}"`);
    expect(await (await fetch(`${base}search?words=${encodeURIComponent('<img src=x>')}`)).text()).not.toContain('<img src=x>');
    for (const bad of ['../package.json', '%2e%2e/package.json', 'screenshots/../../package.json', 'no.html'])
      expect((await fetch(base + bad)).status).toBe(404);
  } finally {
    child.kill();
  }
});

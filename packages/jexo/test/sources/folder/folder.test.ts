import { link, mkdir, mkdtemp, rename, rm, symlink, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { connect, defineServer, wrapFolder, type Client, type ConnectOptions, type WrapFolderOptions } from '../../../src/index.js';
import { plainPath } from '../../../src/sources/folder/safe-path.js';
import { sectionsOf } from '../../../src/sources/folder/sections.js';

const open: (() => Promise<unknown>)[] = [];
afterAll(async () => {
  for (const close of open.reverse()) await close();
});
async function makeFolder(
  files: Readonly<Record<string, string | Uint8Array>>,
): Promise<{ readonly folder: string; readonly outside: string }> {
  const outside = await mkdtemp(join(tmpdir(), 'jexo-folder-'));
  open.push(() => rm(outside, { recursive: true, force: true }));
  const folder = join(outside, 'handbook');
  await mkdir(folder);
  for (const [path, contents] of Object.entries(files)) {
    await mkdir(join(folder, path, '..'), { recursive: true });
    await writeFile(join(folder, path), contents);
  }
  await writeFile(join(outside, 'secret.txt'), 'the secret');
  return { folder, outside };
}
async function serve(folder: string, options: WrapFolderOptions = {}, connecting: ConnectOptions = {}): Promise<Client> {
  const server = defineServer({ name: 'handbook', version: '1.0.0', offers: [wrapFolder(folder, options)] });
  const client = await connect(server, connecting);
  open.push(() => client.close().then(() => server.close()));
  return client;
}
const textOf = (result: { content: readonly unknown[] }) => (result.content[0] as { text: string }).text;

const pages = {
  'README.md': '# Handbook\n\nHow the cooperative keeps its bees, in short pages for its keepers.\n',
  'mites/counting.md':
    '---\ntags: mites\n---\n# Counting mites\n\n## Sugar roll\n\nHalf a cup of bees is about 300.\n\n## What the number means\n\nThree or more in July: treat.\n',
  'mites/treating.md': '# Treating\n\nFormic acid works into sealed brood. Oxalic acid works in December.\n',
  'winter/stores.md': 'Winter stores\n=============\n\nA colony needs 14 kilograms in October.\n\n```\n# no heading\n```\n',
  'plain.txt': 'One line about queens.\n\nAnother paragraph about drones.\n',
  'page.html':
    '<html><head><title>x</title></head><body><h1>Smoker</h1><script>alert("queens")</script><p>Cool &amp; white smoke.</p></body></html>',
  'photo.png': new Uint8Array([137, 80, 78, 71, 0, 1, 2, 255]),
  'größe & co #1.md': '# Größe\n\nZargen.\n',
};

test('files are resources with type, size and time; text as text, bytes as bytes; the template completes', async () => {
  const { folder } = await makeFolder(pages);
  const client = await serve(folder);
  const listed = await client.resources();
  expect(listed.map(({ name }) => name)).toEqual([...Object.keys(pages)].sort((a, b) => comparePaths(a, b)));
  const page = listed.find(({ name }) => name === 'mites/treating.md')!;
  expect(page).toMatchObject({
    uri: 'handbook://mites/treating.md',
    mimeType: 'text/markdown',
    size: Buffer.byteLength(pages['mites/treating.md']),
    annotations: { lastModified: expect.stringMatching(/^20/) },
  });
  expect((await client.read(page.uri)).contents).toEqual([{ uri: page.uri, mimeType: 'text/markdown', text: pages['mites/treating.md'] }]);
  const odd = listed.find(({ name }) => name.startsWith('größe'))!;
  expect((await client.read(odd.uri)).contents[0]).toMatchObject({ text: '# Größe\n\nZargen.\n' });
  expect((await client.read('handbook://photo.png')).contents[0]).toMatchObject({
    mimeType: 'image/png',
    blob: Buffer.from(pages['photo.png']).toString('base64'),
  });
  const { values } = await client.complete({ type: 'ref/resource', uri: 'handbook://{+path}' }, { name: 'path', value: 'mit' });
  expect(values).toEqual(['mites/counting.md', 'mites/treating.md']);
  expect(await client.tools().catch(() => [])).toEqual([]);
});

const comparePaths = (a: string, b: string) => {
  const [one, other] = [a.split('/'), b.split('/')];
  for (let at = 0; ; at++) {
    if (one[at] === undefined || other[at] === undefined) return one.length - other.length;
    if (one[at] !== other[at]) return one[at]! < other[at]! ? -1 : 1;
  }
};

test('nothing outside the folder is read, however a URI is written', async () => {
  const { folder, outside } = await makeFolder({ ...pages, 'inner/kept.md': 'kept', '.env': 'SECRET=1', 'node_modules/x/index.js': 'x' });
  await symlink(join(outside, 'secret.txt'), join(folder, 'link.txt'));
  await symlink(outside, join(folder, 'away'));
  await symlink(join(folder, 'plain.txt'), join(folder, 'alias.txt'));
  await link(join(outside, 'secret.txt'), join(folder, 'hard.txt'));
  const client = await serve(folder, { search: true });
  expect((await client.resources()).map(({ name }) => name)).not.toEqual(
    expect.arrayContaining(['link.txt', 'alias.txt', 'hard.txt', '.env']),
  );
  const paths = [
    '../secret.txt',
    '..%2Fsecret.txt',
    '%2e%2e/secret.txt',
    '%2e%2e%2fsecret.txt',
    '%252e%252e/secret.txt',
    '..%5csecret.txt',
    '..\\secret.txt',
    '....//secret.txt',
    '.../secret.txt',
    './../secret.txt',
    'mites/../../secret.txt',
    'mites/..%2f..%2fsecret.txt',
    'mites/../plain.txt',
    'mites/./counting.md',
    './plain.txt',
    '/plain.txt',
    '//plain.txt',
    'plain.txt/',
    'plain.txt/.',
    'mites//counting.md',
    'mites',
    'mites/',
    '',
    '.',
    '..',
    '/',
    '/etc/passwd',
    '%2Fetc%2Fpasswd',
    'etc/passwd',
    'file:///etc/passwd',
    'C:/windows/win.ini',
    'C:\\windows\\win.ini',
    'c:plain.txt',
    '~/.bashrc',
    '$HOME/.bashrc',
    outside,
    `${outside}/secret.txt`,
    'link.txt',
    'alias.txt',
    'hard.txt',
    'away/secret.txt',
    'away/handbook/plain.txt',
    '.env',
    'node_modules/x/index.js',
    'plain.txt%00',
    'plain.txt%00.md',
    'plain.txt%0a',
    'plain.txt%20',
    'plain.txt.',
    'plain.txt::$DATA',
    'plain.txt:stream',
    'PLAIN.TXT',
    'Plain.txt',
    'mites/COUNTING.md',
    'con',
    'nul.txt',
    'COM1',
    'aux.md',
    'mites/prn',
    '%c0%ae%c0%ae/secret.txt',
    '%e0%80%ae%e0%80%ae/secret.txt',
    '%uff0e%uff0e/secret.txt',
    '\uff0e\uff0e/secret.txt',
    '..\u2215secret.txt',
    '..\u2044secret.txt',
    'gro\u0308ße & co #1.md',
    '%',
    '%zz',
    `${'a/'.repeat(3000)}b`,
    '../handbook/plain.txt',
    '..%2Fhandbook%2Fplain.txt',
    'inner/../inner/kept.md',
    '/dev/null',
    '/proc/self/environ',
  ];
  expect(paths.length).toBeGreaterThanOrEqual(60);
  const read: string[] = [];
  for (const path of paths)
    for (const uri of [`handbook://${path}`, `handbook://${encodeURI(path)}`, `handbook:///${path}`]) {
      const found = await client.read(uri).catch(() => undefined);
      if (found !== undefined) read.push(uri);
    }
  expect(read).toEqual([]);
  // A file that gets a name elsewhere after the folder was read is not given out either.
  await rm(join(folder, 'plain.txt'));
  await link(join(outside, 'secret.txt'), join(folder, 'plain.txt'));
  await expect(client.read('handbook://plain.txt')).rejects.toThrow('not found');
  for (const uri of ['handbook://%zz#%', 'elsewhere://a#b', 'handbook://../secret.txt#x', 'handbook://link.txt#line-1'])
    expect(textOf(await client.call('read_handbook', { uri }))).toContain(`There is no section ${uri}`);
  expect((await client.call('search_handbook', { words: 'the secret' })).structuredContent).toMatchObject({ hits: [] });
});

test('for any text, a path is plain only if it can mean nothing else', () => {
  fc.assert(
    fc.property(fc.string({ unit: fc.constantFrom('a', '.', '/', '\\', ':', ' ', '~', '\u0000', 'ö', '%') }), (text) => {
      const plain = plainPath(text);
      if (plain === undefined) return;
      expect(plain.split('/').every((part) => part !== '' && part !== '.' && part !== '..' && !/[\\:\u0000]/.test(part))).toBe(true);
      expect(join('/root', plain).startsWith('/root/')).toBe(true);
    }),
  );
});

test('a file that is put in the place of another while it is read is never one from outside', async () => {
  const { folder, outside } = await makeFolder({ 'page.md': 'inside' });
  const client = await serve(folder);
  await client.resources();
  let isOver = false;
  const swapping = (async () => {
    while (!isOver) {
      await symlink(join(outside, 'secret.txt'), join(folder, 'next')).catch(() => undefined);
      await rename(join(folder, 'next'), join(folder, 'page.md')).catch(() => undefined);
      await writeFile(join(folder, 'next'), 'inside');
      await rename(join(folder, 'next'), join(folder, 'page.md'));
    }
  })();
  for (let tries = 0; tries < 300; tries++) {
    const found = await client.read('handbook://page.md').catch(() => undefined);
    if (found !== undefined) expect(found.contents[0]).toMatchObject({ text: 'inside' });
  }
  isOver = true;
  await swapping;
});

test('ignore files, patterns and limits choose what is offered', async () => {
  const { folder } = await makeFolder({
    '.gitignore': 'drafts/\n*.tmp\n',
    'a.md': 'a',
    'b.tmp': 'b',
    'drafts/c.md': 'c',
    'deep/.ignore': 'd.md\n',
    'deep/d.md': 'd',
    'deep/e.md': 'e',
    'large.md': 'x'.repeat(2000),
  });
  const names = async (options: WrapFolderOptions) => {
    const client = await serve(folder, options);
    return (await client.resources()).map(({ name }) => name);
  };
  expect(await names({})).toEqual(['a.md', 'deep/e.md', 'large.md']);
  expect(await names({ ignoreFiles: false })).toEqual(['a.md', 'b.tmp', 'deep/d.md', 'deep/e.md', 'drafts/c.md', 'large.md']);
  expect(await names({ only: ['deep/**'] })).toEqual(['deep/e.md']);
  expect(await names({ except: ['*.md'], ignoreFiles: false })).toEqual(['b.tmp']);
  expect(await names({ maxFileBytes: 1000 })).toEqual(['a.md', 'deep/e.md']);
  expect(await names({ maxFiles: 1 })).toEqual(['a.md']);
  const gone = wrapFolder(join(folder, 'nowhere'));
  await expect(gone.read({ settings: {}, signal: new AbortController().signal, progress: () => undefined })).rejects.toMatchObject({
    code: 'JEXO_TARGET_MISSING',
  });
});

test('documents are taken apart by headings, each part with a stable address', () => {
  expect(sectionsOf('a.md', pages['mites/counting.md']).map(({ anchor, headings, line }) => [anchor, headings, line])).toEqual([
    ['sugar-roll', ['Counting mites', 'Sugar roll'], 6],
    ['what-the-number-means', ['Counting mites', 'What the number means'], 10],
  ]);
  expect(sectionsOf('a.md', pages['winter/stores.md']).map(({ anchor, headings }) => [anchor, headings])).toEqual([
    ['winter-stores', ['Winter stores']],
  ]);
  expect(sectionsOf('a.md', '# A\n\nx\n\n# A\n\ny\n').map(({ anchor }) => anchor)).toEqual(['a', 'a-1']);
  expect(sectionsOf('a.html', pages['page.html'])).toMatchObject([
    { anchor: 'smoker', text: expect.stringMatching(/^# Smoker\s+Cool & white smoke\.$/) },
  ]);
  expect(sectionsOf('a.txt', `${'word '.repeat(400)}\n\n${'more '.repeat(400)}\n`).map(({ anchor }) => anchor)).toEqual([
    'line-1',
    'line-3',
  ]);
  expect(sectionsOf('a.md', '')).toEqual([]);
});

test('search finds sections by words, stems, prefixes, phrases and in spite of typos; what it finds can be read at once', async () => {
  const { folder } = await makeFolder(pages);
  const client = await serve(folder, { search: true });
  const tools = Object.fromEntries((await client.tools()).map((tool) => [tool.name, tool]));
  expect(tools.search_handbook!.description).toContain('How the cooperative keeps its bees, in short pages for its keepers.');
  const find = async (words: string, more: object = {}) => {
    const { structuredContent } = await client.call('search_handbook', { words, ...more });
    return structuredContent as { hits: { uri: string; heading: string; snippet: string; score: number }[]; note?: string };
  };
  for (const [words, uri] of [
    ['treating with acids', 'handbook://mites/treating.md#treating'],
    ['how many bees are in a cup', 'handbook://mites/counting.md#sugar-roll'],
    ['oxallic', 'handbook://mites/treating.md#treating'],
    ['kilogr', 'handbook://winter/stores.md#winter-stores'],
    ['"sealed brood"', 'handbook://mites/treating.md#treating'],
    ['drones', 'handbook://plain.txt#line-1'],
    ['smoke', 'handbook://page.html#smoker'],
  ] as const) {
    const { hits } = await find(words);
    expect([words, hits[0]?.uri]).toEqual([words, uri]);
    const [contents] = (await client.read(hits[0]!.uri)).contents as unknown as { text: string }[];
    expect(textOf(await client.call('read_handbook', { uri: hits[0]!.uri }))).toContain(contents!.text);
  }
  expect((await find('treating with acids')).hits[0]!.snippet).toMatch(/\*\*acid\*\*/);
  expect((await find('"brood sealed"')).hits).toEqual([]);
  expect((await find('bees', { folder: 'winter' })).hits).toEqual([]);
  expect((await find('alert')).hits).toEqual([]);
  expect((await find('nothingsuch')).note).toContain('Nothing in 7 documents has these words');
  const little = await find('mites bees acid colony queens', { budget: 60, limit: 10 });
  expect([little.hits.length, little.note]).toEqual([1, expect.stringContaining('did not fit into 60 tokens')]);
  const cut = textOf(await client.call('read_handbook', { uri: 'handbook://mites/counting.md#what-the-number-means', budget: 50 }));
  expect(cut).toContain('Sugar roll');
  expect(textOf(await client.call('read_handbook', { uri: 'handbook://mites/none.md#x' }))).toContain('There is no section');
});

test('what is saved, added or removed is found, listed and told', async () => {
  const { folder } = await makeFolder(pages);
  let told = () => undefined as void;
  const client = await serve(folder, { search: true }, { onResourcesChanged: () => told() });
  const until = async (what: string, check: () => Promise<boolean>) => {
    for (let tries = 0; tries < 200; tries++) {
      if (await check()) return;
      await new Promise((resolve) => setTimeout(resolve, 25));
    }
    throw new Error(`It never came to be that ${what}.`);
  };
  const hits = async (words: string) =>
    ((await client.call('search_handbook', { words })).structuredContent as { hits: { uri: string }[] }).hits.map(({ uri }) => uri);
  await client.resources();
  const changed: string[] = [];
  await client.watch('handbook://plain.txt', (uri) => changed.push(uri));
  const added = new Promise<void>((resolve) => (told = resolve));
  // The watcher is ready a moment after it was started: the file is written until it is seen.
  const writing = setInterval(() => void writeFile(join(folder, 'wasps.md'), `# Wasps\n\nNarrow the entrance. ${Date.now()}\n`), 300);
  await added;
  clearInterval(writing);
  expect((await client.resources()).map(({ name }) => name)).toContain('wasps.md');
  await until('it is found', async () => (await hits('wasps')).includes('handbook://wasps.md#wasps'));
  await writeFile(join(folder, 'plain.txt'), 'Now about hornets.\n');
  await until('the change is told', async () => changed.length > 0);
  expect(await hits('hornets')).toEqual(['handbook://plain.txt#line-1']);
  expect(await hits('drones')).not.toContain('handbook://plain.txt#line-1');
  await rm(join(folder, 'wasps.md'));
  await until('it is gone', async () => !(await client.resources()).some(({ name }) => name === 'wasps.md'));
  expect(await hits('wasps')).toEqual([]);
});

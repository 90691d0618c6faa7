import { createRequire } from 'node:module';
import { closeSync, openSync, statSync, truncateSync, writeSync } from 'node:fs';
import { mkdir, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { connect, defineServer, wrapFolder, type WrapFolderOptions } from '../../../src/index.js';
import { freshFolder } from '../../support/command-line.js';

const Sqlite = createRequire(import.meta.url)('libsql') as new (path: string) => {
  exec(sql: string): void;
  prepare(sql: string): { get(...values: unknown[]): Record<string, unknown> };
  close(): void;
};

const open: (() => Promise<unknown>)[] = [];
afterAll(async () => {
  for (const close of open.reverse()) await close();
});

const pages: Record<string, string> = {
  'README.md': '# Handbook\n\nHow the cooperative keeps its bees, in short pages for its keepers.\n',
  'mites/counting.md':
    '---\nseason: summer\ntags: [mites, counting]\ndate: 2026-06-01\n---\n# Counting mites\n\n## Sugar roll\n\nHalf a cup of bees is about 300.\n\n## What the number means\n\nThree or more in July: treat.\n',
  'mites/treating.md':
    '---\nseason: winter\ntags: mites\nrank: 2\ndraft: true\ndate: 2026-01-15\n---\n# Treating\n\nFormic acid works into sealed brood. Oxalic acid works in December.\n',
  'winter/stores.md':
    '---\nseason: winter\ndate: 2025-10-20\n---\n# Winter stores\n\nA colony needs 14 kilograms in October. Größe of the box does not matter.\n',
  'plain.txt': 'One line about queens.\n\nAnother paragraph about drones.\n',
};

async function makeFolder(files = pages): Promise<string> {
  const base = freshFolder('index');
  open.push(() => rm(base, { recursive: true, force: true }));
  const folder = join(base, 'handbook');
  for (const [path, contents] of Object.entries(files)) {
    await mkdir(join(folder, path, '..'), { recursive: true });
    await writeFile(join(folder, path), contents);
  }
  return folder;
}

interface Hits {
  readonly hits: { uri: string; heading: string; snippet: string; score: number }[];
  readonly note?: string;
}

async function serve(folder: string, options: WrapFolderOptions) {
  const server = defineServer({ name: 'handbook', version: '1.0.0', offers: [wrapFolder(folder, { search: true, ...options })] });
  const client = await connect(server);
  let isOpen = true;
  const close = async () => {
    if (!isOpen) return;
    isOpen = false;
    await client.close();
    await server.close();
  };
  open.push(close);
  const find = async (words: string, more: object = {}): Promise<Hits> => {
    const result = await client.call('search_handbook', { words, ...more });
    if (result.isError) throw new Error((result.content[0] as { text: string }).text);
    return result.structuredContent as unknown as Hits;
  };
  const uris = async (words: string, more: object = {}) => (await find(words, more)).hits.map(({ uri }) => uri.replace('handbook://', ''));
  return { client, find, uris, close };
}

const read = (folder: string, options: WrapFolderOptions) =>
  wrapFolder(folder, { search: true, ...options }).read({ settings: {}, signal: new AbortController().signal, progress: () => undefined });

const until = async (what: string, check: () => Promise<boolean>) => {
  for (let tries = 0; tries < 400; tries++) {
    if (await check()) return;
    await new Promise((resolve) => setTimeout(resolve, 25));
  }
  throw new Error(`It never came to be that ${what}.`);
};

describe.each(['memory', 'disk'] as const)('an index kept in %s', (kind) => {
  const place = (folder: string) => (kind === 'memory' ? 'memory' : join(folder, '..', 'index.sqlite'));

  test('finds by words, stems, beginnings, phrases and typos, and reads what it has found', async () => {
    const folder = await makeFolder();
    const { uris, client, find } = await serve(folder, { index: place(folder) });
    for (const [words, first] of [
      ['treating with acids', 'mites/treating.md#treating'],
      ['how many bees are in a cup', 'mites/counting.md#sugar-roll'],
      ['oxallic', 'mites/treating.md#treating'],
      ['kilogr', 'winter/stores.md#winter-stores'],
      ['"sealed brood"', 'mites/treating.md#treating'],
      ['drones', 'plain.txt#line-1'],
      ['GRÖSSE grosse größe', 'winter/stores.md#winter-stores'],
      ['what about "Sugar roll" of bees', 'mites/counting.md#sugar-roll'],
    ] as const)
      expect([words, (await uris(words))[0]]).toEqual([words, first]);
    expect(await uris('"brood sealed"')).toEqual([]);
    expect(await uris('" "')).toEqual([]);
    expect(await uris('the and of')).toEqual([]);
    expect((await find('treating with acids')).hits[0]!.snippet).toMatch(/\*\*acid\*\*/);
    expect((await find('sugar')).hits[0]!.heading).toBe('Counting mites › Sugar roll');
    const read = await client.call('read_handbook', { uri: 'handbook://mites/counting.md#sugar-roll' });
    expect((read.content[0] as { text: string }).text).toContain('Half a cup of bees');
    for (const odd of [
      '"',
      '*',
      'NEAR(',
      'a AND (b',
      'title: x',
      "'; drop table files; --",
      '^mites',
      '-mites',
      '{x}',
      '\\',
      '%',
      '\u0000x',
    ])
      expect(Array.isArray((await find(odd)).hits)).toBe(true);
  });

  test('is narrowed by folder, front matter and date', async () => {
    const folder = await makeFolder();
    const { uris, client } = await serve(folder, { index: place(folder) });
    await uris('bees');
    await until('the description names the front matter', async () =>
      JSON.stringify((await client.tools()).find(({ name }) => name === 'search_handbook')!.inputSchema).includes(
        'season (summer, winter)',
      ),
    );
    const words = 'mites treating colony acid bees';
    expect(new Set(await uris(words, { folder: 'mites' }))).toEqual(
      new Set(['mites/counting.md#sugar-roll', 'mites/counting.md#what-the-number-means', 'mites/treating.md#treating']),
    );
    expect(await uris(words, { folder: 'mites/treating.md' })).toEqual(['mites/treating.md#treating']);
    expect(await uris(words, { folder: '/winter/' })).toEqual(['winter/stores.md#winter-stores']);
    expect(await uris(words, { folder: 'mit' })).toEqual([]);
    expect(new Set(await uris(words, { where: { season: 'winter' } }))).toEqual(
      new Set(['mites/treating.md#treating', 'winter/stores.md#winter-stores']),
    );
    expect(await uris(words, { where: { season: 'winter', tags: 'mites' } })).toEqual(['mites/treating.md#treating']);
    expect((await uris(words, { where: { tags: 'counting' } })).every((uri) => uri.startsWith('mites/counting'))).toBe(true);
    expect(await uris(words, { where: { rank: 2 } })).toEqual(['mites/treating.md#treating']);
    expect(await uris(words, { where: { draft: true } })).toEqual(['mites/treating.md#treating']);
    expect(await uris(words, { where: { draft: false } })).toEqual([]);
    expect(await uris(words, { where: { 'a"b': 1, "c'd": 2 } })).toEqual([]);
    expect(await uris(words, { until: '2025-12-31' })).toEqual(['winter/stores.md#winter-stores']);
    expect(await uris(words, { since: '2026-01-15', until: '2026-01-15' })).toEqual(['mites/treating.md#treating']);
    expect(await uris('acid', { since: '2026-01-16', until: '2026-06-30' })).toEqual([]);
  });

  test('takes up what is changed, added and removed, and nothing else', async () => {
    const folder = await makeFolder();
    const embedded: string[] = [];
    const embed = (texts: readonly string[]) => texts.map((text) => (embedded.push(text), [text.length, 1]));
    const { uris } = await serve(folder, { index: place(folder), embed });
    await uris('x');
    await until('all sections are embedded', async () => (await uris('bees', { by: 'meaning', limit: 30 })).length === 6);
    const before = embedded.filter((text) => text.length > 10).length;
    expect(before).toBe(6);
    const writing = setInterval(() => void writeFile(join(folder, 'wasps.md'), '# Wasps\n\nNarrow the entrance against wasps.\n'), 300);
    await until('the new page is found', async () => (await uris('wasps', { by: 'words' })).includes('wasps.md#wasps'));
    clearInterval(writing);
    await rename(join(folder, 'plain.txt'), join(folder, 'renamed.txt'));
    await until('the renamed page is found', async () => (await uris('drones', { by: 'words' }))[0] === 'renamed.txt#line-1');
    await rm(join(folder, 'mites'), { recursive: true });
    await until('removed pages are gone', async () => (await uris('acid', { by: 'words' })).length === 0);
    await until('the new page is found by meaning', async () => (await uris('x', { by: 'meaning', limit: 30 })).includes('wasps.md#wasps'));
    // Vectors are kept by content: the renamed page was embedded before.
    expect(embedded.filter((text) => text.length > 10).length).toBe(before + 1);
  });

  test('finds by meaning, and fuses both lists', async () => {
    const folder = await makeFolder();
    // Three directions: mites, food, queens.
    const topics = [/mite|acid|varroa|parasite/gi, /kilogram|store|food|hunger/gi, /queen|drone|royal/gi];
    const embed = (texts: readonly string[]) => texts.map((text) => topics.map((topic) => 0.01 + (text.match(topic)?.length ?? 0)));
    const { uris, find, client } = await serve(folder, { index: place(folder), embed });
    await uris('x');
    await until('all sections are embedded', async () => (await find('hunger')).note === undefined);
    expect(await uris('hunger', { by: 'words' })).toEqual([]);
    expect((await uris('hunger', { by: 'meaning' }))[0]).toBe('winter/stores.md#winter-stores');
    expect((await uris('hunger'))[0]).toBe('winter/stores.md#winter-stores');
    expect((await uris('parasites in July'))[0]).toBe('mites/counting.md#what-the-number-means');
    expect(await uris('hunger', { by: 'meaning', folder: 'winter' })).toEqual(['winter/stores.md#winter-stores']);
    const [{ properties }] = [(await client.tools()).find(({ name }) => name === 'search_handbook')!.inputSchema];
    expect((properties!.by as { enum: string[] }).enum).toEqual(['both', 'words', 'meaning']);
  });

  test('counts sections that say the same as found by meaning', async () => {
    const same = '# Same\n\nThe same words.\n';
    const folder = await makeFolder({ 'a.md': same, 'b.md': same });
    const { find } = await serve(folder, { index: place(folder), embed: (texts) => texts.map((text) => [text.length, 1]) });
    await until('nothing is missing', async () => (await find('words')).note === undefined);
    expect((await find('words', { by: 'meaning' })).hits).toHaveLength(2);
  });

  test('says so when embedding fails, and finds by words meanwhile', async () => {
    const folder = await makeFolder();
    const failing = async (): Promise<number[][]> => {
      throw new Error('the model is away');
    };
    for (const [embed, note] of [
      [failing, 'the model is away'],
      [() => [[1, 2]], 'vectors for'],
      [(texts: readonly string[]) => texts.map((_, at) => (at === 0 ? [1] : [1, 2])), 'of one length'],
      [(texts: readonly string[]) => texts.map(() => [Number.NaN]), 'finite numbers'],
    ] as const) {
      const { find, close } = await serve(folder, { index: place(folder), embed });
      let found = await find('acid');
      await until(`it says ${note}`, async () => (found = await find('acid')).note?.includes(note) === true);
      expect(found.hits[0]!.uri).toBe('handbook://mites/treating.md#treating');
      await close();
    }
  });
});

describe('an index on disk', () => {
  const indexOf = (folder: string) => join(folder, '..', 'index.sqlite');
  const check = (folder: string) => {
    const database = new Sqlite(indexOf(folder));
    try {
      database.exec("insert into sections(sections) values ('integrity-check')");
      const { files } = database.prepare('select count(*) as files from files').get();
      return [database.prepare('pragma integrity_check').get().integrity_check, files];
    } finally {
      database.close();
    }
  };

  test('is not made again by the next process', async () => {
    const folder = await makeFolder();
    let calls = 0;
    const embed = (texts: readonly string[]) => ((calls += texts.length), texts.map((text) => [text.length, 1]));
    const first = await serve(folder, { index: indexOf(folder), embed });
    await until('everything is embedded', async () => (await first.uris('x', { by: 'meaning', limit: 30 })).length === 6);
    await first.close();
    const made = calls;
    const second = await serve(folder, { index: indexOf(folder), embed });
    expect((await second.uris('acid', { by: 'words' }))[0]).toBe('mites/treating.md#treating');
    expect((await second.uris('y', { by: 'meaning', limit: 30 })).length).toBe(6);
    expect(calls).toBe(made + 1);
    expect(check(folder)).toEqual(['ok', 5]);
  });

  test.each([
    ['overwritten in the middle', (file: string) => scribble(file, 4096, 40_000)],
    ['overwritten at its beginning', (file: string) => scribble(file, 100, 3000)],
    ['cut in half', (file: string) => truncateSync(file, Math.floor(statSync(file).size / 2))],
  ])('that was %s is built again, and the search says so', async (_, damage) => {
    const folder = await makeFolder({
      ...pages,
      ...Object.fromEntries(Array.from({ length: 60 }, (_each, at) => [`more/${at}.md`, `# Page ${at}\n\nword${at} stands here.\n`])),
    });
    const first = await serve(folder, { index: indexOf(folder) });
    expect((await first.uris('word59'))[0]).toBe('more/59.md#page-59');
    await first.close();
    damage(indexOf(folder));
    const second = await serve(folder, { index: indexOf(folder) });
    const found = await second.find('word59');
    expect(found.hits[0]?.uri).toBe('handbook://more/59.md#page-59');
    expect(found.note ?? '').toMatch(/^The index was damaged \(.*\), and is built again\.|^$/);
    await until('it is whole', async () => (await second.uris('word17'))[0] === 'more/17.md#page-17');
    await second.close();
    expect(check(folder)).toEqual(['ok', 65]);
  });

  test('that is damaged while it is in use is built again', async () => {
    const folder = await makeFolder();
    const { uris, find } = await serve(folder, { index: indexOf(folder) });
    await uris('acid');
    await rm(indexOf(folder));
    await rm(`${indexOf(folder)}-wal`, { force: true });
    await rm(`${indexOf(folder)}-shm`, { force: true });
    const found = await find('acid');
    expect(found.hits[0]?.uri).toBe('handbook://mites/treating.md#treating');
    expect(found.note).toMatch(/^The index was damaged \(its file is gone\), and is built again\./);
  });

  test('never writes over a file that is not its own', async () => {
    const folder = await makeFolder();
    const text = join(folder, '..', 'notes.txt');
    await writeFile(text, 'my notes');
    await expect(read(folder, { index: text })).rejects.toMatchObject({
      code: 'JEXO_TARGET_MISSING',
      message: expect.stringContaining('is not an index of Jexo'),
    });
    expect(await readFile(text, 'utf8')).toBe('my notes');
    const foreign = join(folder, '..', 'foreign.sqlite');
    const database = new Sqlite(foreign);
    database.exec('create table about(name text, value text); create table files(x)');
    database.close();
    const bytes = await readFile(foreign);
    await expect(read(folder, { index: foreign })).rejects.toMatchObject({ code: 'JEXO_TARGET_MISSING' });
    expect(await readFile(foreign)).toEqual(bytes);
    // The index of another folder, or of other options, is kept too.
    const { uris, close } = await serve(folder, { index: indexOf(folder) });
    await uris('acid');
    await close();
    await expect(read(folder, { index: indexOf(folder), only: ['*.txt'] })).rejects.toMatchObject({
      message: expect.stringContaining('of other options'),
    });
    expect(check(folder)).toEqual(['ok', 5]);
  });
});

function scribble(file: string, from: number, length: number): void {
  const handle = openSync(file, 'r+');
  const end = Math.min(length, statSync(file).size - from);
  writeSync(handle, Buffer.alloc(end, 0x5a), 0, end, from);
  closeSync(handle);
}

test('a folder that is removed is reported and comes back; a file that is written while it is read is found as it is at last', async () => {
  const folder = await makeFolder();
  const source = wrapFolder(folder, { search: true, index: 'memory' });
  const context = { settings: {}, signal: new AbortController().signal, progress: () => undefined };
  const server = defineServer({ name: 'handbook', version: '1.0.0', offers: [source] });
  const client = await connect(server);
  open.push(() => client.close().then(() => server.close()));
  await rename(folder, `${folder}-away`);
  await expect(source.read(context)).rejects.toMatchObject({ code: 'JEXO_TARGET_MISSING' });
  await expect(client.read('handbook://plain.txt')).rejects.toThrow('Resource not found');
  await rename(`${folder}-away`, folder);
  expect((await client.read('handbook://plain.txt')).contents[0]).toMatchObject({ text: pages['plain.txt'] });
  const writes = (async () => {
    for (let round = 0; round < 60; round++)
      await writeFile(join(folder, 'plain.txt'), `Round ${round} is here. ${'x'.repeat(round * 100)}\n`);
  })();
  for (let round = 0; round < 20; round++) await source.read(context);
  await writes;
  await source.read(context);
  const found = await client.call('search_handbook', { words: 'round 59' });
  expect((found.structuredContent as { hits: { snippet: string }[] }).hits[0]!.snippet).toContain('59');
});

test('parts of a file are read by lines and bytes; a large file says how', async () => {
  const folder = await makeFolder({
    'log.txt': Array.from({ length: 500 }, (_, at) => `line ${at + 1}`).join('\n'),
    'bytes.bin': '\u0000abcdefgh',
  });
  const { client } = await serve(folder, { index: 'memory', maxReadBytes: 1000 });
  const text = async (uri: string) => ((await client.read(uri)).contents[0] as { text?: string }).text;
  expect(await text('handbook://log.txt?lines=2-3')).toBe('line 2\nline 3');
  expect(await text('handbook://log.txt?lines=499-9999')).toBe('line 499\nline 500');
  expect(await text('handbook://log.txt?lines=900-950')).toBe('');
  expect(await text('handbook://log.txt?bytes=0-5')).toBe('line 1');
  expect((await client.read('handbook://bytes.bin?bytes=0-3')).contents[0]).toMatchObject({
    blob: Buffer.from('\u0000abc').toString('base64'),
  });
  await expect(client.read('handbook://log.txt')).rejects.toThrow(/at most 1,000 are read at once. Read it in parts: .*\?bytes=0-999/);
  await expect(client.read('handbook://log.txt?lines=1-400')).rejects.toThrow(/more than 1,000 bytes/);
  await expect(client.read('handbook://log.txt?bytes=0-5000')).rejects.toThrow(/more than 1,000 bytes/);
  for (const odd of ['?lines=', '?lines=a-b', '?lines=1', '?x=1-2', '?bytes=-1-5', '?lines=1-2&bytes=1-2'])
    await expect(client.read(`handbook://log.txt${odd}`)).rejects.toThrow(/^Resource not found/);
  const answer = await client.call('read_handbook', { uri: 'handbook://log.txt?lines=10-11' });
  expect((answer.content[0] as { text: string }).text).toBe('line 10\nline 11');
});

/** A PDF file of one line a page. */
function pdfOf(lines: readonly string[]): Buffer {
  const objects = [
    '<< /Type /Catalog /Pages 2 0 R >>',
    `<< /Type /Pages /Kids [${lines.map((_, at) => `${4 + at * 2} 0 R`).join(' ')}] /Count ${lines.length} >>`,
    '<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>',
  ];
  for (const [at, line] of lines.entries()) {
    const stream = `BT /F1 12 Tf 72 720 Td (${line}) Tj ET`;
    objects.push(
      `<< /Type /Page /Parent 2 0 R /MediaBox [0 0 612 792] /Resources << /Font << /F1 3 0 R >> >> /Contents ${5 + at * 2} 0 R >>`,
    );
    objects.push(`<< /Length ${stream.length} >>\nstream\n${stream}\nendstream`);
  }
  let text = '%PDF-1.4\n';
  const places = objects.map((object, at) => {
    const place = text.length;
    text += `${at + 1} 0 obj\n${object}\nendobj\n`;
    return place;
  });
  const start = text.length;
  text += `xref\n0 ${objects.length + 1}\n0000000000 65535 f \n${places.map((place) => `${String(place).padStart(10, '0')} 00000 n \n`).join('')}`;
  return Buffer.from(`${text}trailer\n<< /Size ${objects.length + 1} /Root 1 0 R >>\nstartxref\n${start}\n%%EOF\n`, 'latin1');
}

test('PDF files are searched by page; one that cannot be read is named', async () => {
  const folder = await makeFolder();
  await writeFile(join(folder, 'smoker_manual.pdf'), pdfOf(['Light the smoker with dry hessian.', 'Empty the ashes afterwards.']));
  await writeFile(join(folder, 'broken.pdf'), '%PDF-1.4\nnothing');
  const { find, client } = await serve(folder, { index: 'memory' });
  const found = await find('hessian');
  expect(found.hits[0]).toMatchObject({ uri: 'handbook://smoker_manual.pdf#page-1', heading: 'smoker manual › page 1' });
  expect(found.note).toMatch(/^Documents that are not searched: broken\.pdf \(/);
  const read = await client.call('read_handbook', { uri: (await find('ashes')).hits[0]!.uri });
  expect((read.content[0] as { text: string }).text).toContain('Empty the ashes');
});

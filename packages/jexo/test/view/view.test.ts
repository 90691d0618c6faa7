import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { z } from 'zod';
import { defineServer, revisions, tool, view, withViews, wrapFunctions, type ClientOptions, type Server } from '../../src/index.js';
import { compareCsp, neededCsp } from '../../src/protocol/view-needs.js';
import { allowOf, cspOf, readViewMeta, toolViewOf } from '../../src/protocol/views.js';
import { freshFolder, jexo, run } from '../support/command-line.js';
import { connect } from '../support/connect.js';

const page = '<!doctype html><p>A hive</p><script>ui/notifications/size-changed</script>';
const weight = view('hive-weight', {
  html: page,
  description: 'A hive.',
  csp: { connectDomains: ['https://tiles.meadow.example'] },
  border: true,
});
const server = (): Server =>
  defineServer({
    name: 'apiary',
    version: '1.0.0',
    offers: [
      tool('hive_weight', { description: 'Weighs.', output: z.object({ kg: z.number() }), view: weight }, () => ({ kg: 31 })),
      tool('hive_again', { description: 'Weighs again.', view: weight }, () => '31 kg'),
      tool('book', { description: 'Books.', visibleTo: 'view' }, () => 'booked'),
      tool('plan', { description: 'Plans.', visibleTo: 'model' }, () => 'planned'),
    ],
  });
const open = async (options: ClientOptions = {}) => {
  const client = await connect(server(), options);
  closing.push(() => client.close());
  return client;
};
const closing: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of closing.splice(0)) await close();
});

test('a client that shows views gets them: the resource, the links, and who may call', async () => {
  const client = await open({ views: true });
  expect(client.server.capabilities).toMatchObject({ extensions: { 'io.modelcontextprotocol/ui': {} } });
  const meta = Object.fromEntries((await client.tools()).map(({ name, _meta }) => [name, _meta?.ui]));
  expect(meta).toEqual({
    hive_weight: { resourceUri: 'ui://view/hive-weight' },
    hive_again: { resourceUri: 'ui://view/hive-weight' },
    book: { visibility: ['app'] },
    plan: { visibility: ['model'] },
  });
  const ui = { csp: { connectDomains: ['https://tiles.meadow.example'] }, prefersBorder: true };
  expect(await client.resources()).toEqual([
    { uri: 'ui://view/hive-weight', name: 'hive-weight', description: 'A hive.', mimeType: 'text/html;profile=mcp-app', _meta: { ui } },
  ]);
  expect((await client.read('ui://view/hive-weight')).contents).toEqual([
    { uri: 'ui://view/hive-weight', mimeType: 'text/html;profile=mcp-app', text: page, _meta: { ui } },
  ]);
  expect((await client.call('book')).content).toEqual([{ type: 'text', text: 'booked' }]);
});

test.each(revisions)(
  '%s: a client that shows none gets neither views nor links nor tools for views, and an answer that stands alone',
  async (revision) => {
    const client = await open({ revision });
    expect(client.server.protocolVersion).toBe(revision);
    expect(client.server.capabilities).not.toHaveProperty('extensions');
    expect(client.server.capabilities).not.toHaveProperty('resources');
    const tools = await client.tools();
    expect(tools.map(({ name }) => name)).toEqual(['hive_weight', 'hive_again', 'plan']);
    expect(JSON.stringify(tools)).not.toContain('"ui"');
    await expect(client.call('book')).rejects.toThrow('Unknown tool: book');
    expect((await client.call('hive_weight')).content).toEqual([{ type: 'text', text: '{"kg":31}' }]);
  },
);

test.each(revisions)('%s: a client that shows views gets them in this revision too', async (revision) => {
  const client = await open({ revision, views: true });
  expect((await client.tools()).find(({ name }) => name === 'hive_weight')?._meta).toEqual({
    ui: { resourceUri: 'ui://view/hive-weight' },
  });
});

test('another kind of page is another extension', async () => {
  const client = await open({ capabilities: { extensions: { 'io.modelcontextprotocol/ui': { mimeTypes: ['text/html;profile=other'] } } } });
  expect((await client.tools()).map(({ name }) => name)).not.toContain('book');
});

test('wrong views are refused where they are described', () => {
  expect(() => view('a b', { html: page })).toThrow('needs a name');
  for (const origin of [
    '*',
    'https://*',
    "'unsafe-eval'",
    'https://a.example/path',
    'https://a.example; img-src *',
    'https://a.example, *',
    'javascript:',
    '',
  ])
    expect(() => view('hive', { html: page, csp: { connectDomains: [origin] } })).toThrow('wrong origin in connectDomains');
  expect(() => tool('a', { view: 'ui://a b' }, () => '')).toThrow('which is no name of one');
  const other = view('hive-weight', { html: page });
  const clash = defineServer({
    name: 'a',
    version: '1',
    offers: [tool('a', { view: weight }, () => ''), tool('b', { view: other }, () => '')],
  });
  return expect(clash.ready()).rejects.toMatchObject({ code: 'JEXO_NAME_CLASH' });
});

test('a page is read from its file each time; one that is not there says where it was looked for', async () => {
  const file = join(freshFolder('view'), 'hive.html');
  const own = defineServer({ name: 'a', version: '1', offers: [tool('weigh', { view: view('hive', { file }) }, () => '')] });
  const client = await connect(own, { views: true });
  closing.push(() => client.close());
  await expect(client.read('ui://view/hive')).rejects.toThrow();
  writeFileSync(file, '<p>one</p>');
  expect((await client.read('ui://view/hive')).contents[0]).toMatchObject({ text: '<p>one</p>' });
  let heard: () => void = () => {};
  const told = new Promise<void>((resolve) => (heard = resolve));
  await client.watch('ui://view/hive', () => heard());
  writeFileSync(file, '<p>two</p>');
  await told;
  expect((await client.read('ui://view/hive')).contents[0]).toMatchObject({ text: '<p>two</p>' });
});

test('the policy of a view names what it declares, and nothing can be hidden in it', () => {
  expect(cspOf()).toBe(
    "default-src 'none'; script-src 'unsafe-inline'; style-src 'unsafe-inline'; img-src data: blob:; font-src data:; media-src data: blob:; connect-src 'none'; frame-src 'none'; worker-src 'none'; object-src 'none'; base-uri 'none'; form-action 'none'",
  );
  const wide = cspOf({
    connectDomains: ['wss://a.example:8443', 'https://b.example; x *', 'https://*.c.example'],
    resourceDomains: ['https://d.example'],
  });
  expect(wide).toContain('connect-src wss://a.example:8443 https://*.c.example;');
  expect(wide).toContain("script-src 'unsafe-inline' https://d.example;");
  expect(wide).not.toContain('*;');
  expect(
    readViewMeta({ ui: { csp: { connectDomains: ['https://a.example', 'x', 7] }, permissions: { camera: {}, usb: {} }, domain: 7 } }),
  ).toEqual({
    csp: { connectDomains: ['https://a.example'] },
    permissions: { camera: {} },
  });
  expect(allowOf({ camera: {} })).toBe("camera *; microphone 'none'; geolocation 'none'; clipboard-write 'none'");
  expect(toolViewOf({ 'ui/resourceUri': 'ui://old' })).toEqual({ resourceUri: 'ui://old' });
  expect(toolViewOf({ ui: { resourceUri: 'https://no' } })).toEqual({});
});

test('what a page needs is found in its text, and compared with what it declares', () => {
  const html = `<base href="https://base.example/"><link href="https://css.example/a.css" rel=stylesheet><style>@font-face{src:url("https://font.example/f")}</style>
<img src=https://img.example/a.png><iframe src='https://frame.example'></iframe><svg xmlns="http://www.w3.org/2000/svg"></svg><script>fetch("https://api.example/x"); new WebSocket(\`wss://live.example\`)</script>`;
  const needed = neededCsp(html);
  expect(needed).toEqual({
    connectDomains: ['https://api.example', 'wss://live.example'],
    resourceDomains: ['https://css.example', 'https://font.example', 'https://img.example'],
    frameDomains: ['https://frame.example'],
    baseUriDomains: ['https://base.example'],
  });
  expect(
    compareCsp(needed, {
      connectDomains: ['https://api.example', 'https://unused.example'],
      resourceDomains: ['https://*.example'],
      frameDomains: ['https://frame.example'],
    }),
  ).toEqual({
    missing: ['wss://live.example (connectDomains)', 'https://base.example (baseUriDomains)'],
    unused: ['https://unused.example (connectDomains)'],
  });
});

const module = `/** Weighs a hive.
 * @view ./hive.html
 * @readOnly
 */
export function weigh(hive: string): { kg: number } {
  return { kg: hive.length };
}
/** Books an inspection.
 * @visibleTo view
 */
export function book(hive: string): string {
  return hive;
}
`;
function project() {
  const folder = freshFolder('views');
  writeFileSync(join(folder, 'hives.ts'), module);
  writeFileSync(join(folder, 'hive.html'), page);
  return folder;
}

test('functions: a tag names the page, and who may call; a plan gives views to whatever it offers', async () => {
  const folder = project();
  const functions = { weigh: (hive: string) => ({ kg: hive.length }), book: (hive: string) => hive };
  const wrapped = defineServer({ name: 'a', version: '1', offers: [wrapFunctions(functions, { types: join(folder, 'hives.ts') })] });
  const client = await connect(wrapped, { views: true });
  closing.push(() => client.close());
  expect((await client.tools()).map(({ name, _meta }) => [name, _meta])).toEqual([
    ['weigh', { ui: { resourceUri: 'ui://view/hive' } }],
    ['book', { ui: { visibility: ['app'] } }],
  ]);
  const plain = defineServer({
    name: 'a',
    version: '1',
    offers: withViews([tool('scale', {}, () => '31 kg')], { scale: view('scale', { html: page }) }),
  });
  const other = await connect(plain, { views: true });
  closing.push(() => other.close());
  expect((await other.tools())[0]!._meta).toEqual({ ui: { resourceUri: 'ui://view/scale' } });

  const lost = (offers: Parameters<typeof withViews>[0]) =>
    defineServer({ name: 'a', version: '1', offers: withViews(offers, { wiegh: view('scale', { html: page }) }) }).ready();
  await expect(lost([wrapFunctions(functions, { types: join(folder, 'hives.ts') })])).rejects.toMatchObject({
    code: 'JEXO_DEFINITION',
    message: 'The view ui://view/scale is for the tool wiegh, which is not offered here.',
    next: 'Did you mean weigh?',
  });
  expect(() => lost([tool('scale', {}, () => '31 kg')])).toThrow('which is not offered here');

  const plan = join(folder, 'apiary.jexo.yaml');
  writeFileSync(
    plan,
    'name: apiary\noffers:\n  - functions: ./hives.ts\n    only: [book]\n  - view: booking\n    of: [book]\n    file: ./hive.html\n    csp: { connectDomains: [https://tiles.meadow.example] }\n',
  );
  const printed = await jexo(['serve', plan, '--print-code'], { cwd: folder });
  expect(printed.stdout).toContain(
    'view("booking", { csp: { connectDomains: ["https://tiles.meadow.example"] }, file: new URL("./hive.html", import.meta.url) })',
  );
  expect(printed.stdout).toContain('withViews([');
  writeFileSync(plan, 'name: apiary\noffers:\n  - view: booking\n    of: [book]\n');
  expect((await jexo(['list', plan])).stderr).toContain('a view has either file or folder');
});

test('a packed server carries its pages', async () => {
  const folder = project();
  writeFileSync(
    join(folder, 'server.ts'),
    `import { defineServer, tool, view, wrapFunctions } from 'jexo';
import * as hives from './hives.ts';
const scale = view('scale', { file: new URL('./scale.html', import.meta.url) });
export default defineServer({ name: 'apiary', version: '1.0.0', offers: [
  wrapFunctions(hives, { types: new URL('./hives.ts', import.meta.url) }),
  tool('scale', { description: 'Weighs.', view: scale }, () => '31 kg'),
  tool('scale_again', { description: 'Weighs again.', view: scale }, () => '31 kg'),
] });
`,
  );
  writeFileSync(join(folder, 'scale.html'), '<p>the scale</p>');
  const out = join(folder, 'out');
  const packed = await jexo(['pack', join(folder, 'server.ts'), '--as', 'file', '--out', out], { cwd: folder });
  expect(packed).toMatchObject({ code: 0 });
  const file = join(out, 'server.mjs');
  expect(readFileSync(file, 'utf8')).toContain('the scale');
  const elsewhere = freshFolder('elsewhere');
  writeFileSync(join(elsewhere, 'apiary.mjs'), readFileSync(file));
  const client = await connect([process.execPath, join(elsewhere, 'apiary.mjs')] as never, { views: true });
  closing.push(() => client.close());
  expect((await client.resources()).map(({ uri }) => uri).sort()).toEqual(['ui://view/hive', 'ui://view/scale']);
  for (const [uri, text] of [
    ['ui://view/hive', page],
    ['ui://view/scale', '<p>the scale</p>'],
  ])
    expect((await client.read(uri!)).contents[0]).toMatchObject({ text });
}, 60_000);

test('an app folder becomes one page, with everything inside; what is wrong with it is said', async () => {
  const folder = freshFolder('app');
  mkdirSync(join(folder, 'src'));
  writeFileSync(
    join(folder, 'index.html'),
    '<!doctype html><link rel="stylesheet" href="./src/style.css"><p id="p"></p><script type="module" src="./src/main.ts"></script>',
  );
  writeFileSync(
    join(folder, 'src/style.css'),
    '@font-face { font-family: f; src: url("./font.woff2") } p { background: url("./dot.png") }',
  );
  writeFileSync(join(folder, 'src/font.woff2'), Buffer.alloc(20_000, 1));
  writeFileSync(join(folder, 'src/dot.png'), Buffer.alloc(20_000, 2));
  writeFileSync(
    join(folder, 'src/main.ts'),
    "import { word } from './word';\nconst other: string = word;\ndocument.getElementById('p')!.textContent = other + '</script>';\nvoid import('./late');\nfetch('https://api.meadow.example/x');\n",
  );
  writeFileSync(join(folder, 'src/late.ts'), "console.log('late');\n");
  writeFileSync(join(folder, 'src/word.ts'), "export const word = 'hives';\n");
  const module = join(folder, 'server.ts');
  writeFileSync(
    module,
    `import { defineServer, tool, view } from 'jexo';
export default defineServer({ name: 'a', version: '1.0.0', offers: [tool('weigh', { view: view('app', { folder: new URL('./', import.meta.url) }) }, () => '31 kg')] });
`,
  );
  // In a process of its own, as a server is: the bundler’s binary refuses objects of a test’s realm.
  const built = async () => {
    const { code, stdout, stderr } = await jexo(['read', module, 'ui://view/app', '--json']);
    if (code !== 0) throw new Error(stdout + stderr);
    return (JSON.parse(stdout) as { contents: { text: string }[] }).contents[0]!.text;
  };
  const html = await built();
  expect(html).not.toMatch(/(?:src|href)="\.?\/?assets/);
  expect(html.match(/<script/g)).toHaveLength(1);
  expect(html).toContain('hives');
  expect(html).toContain('late');
  expect(html).toContain('data:font/woff2;base64,');
  expect(html).toContain('data:image/png;base64,');
  expect(html.indexOf('<script')).toBeGreaterThan(html.indexOf('id="p"'));
  expect(await built()).toBe(html);
  writeFileSync(join(folder, 'src/word.ts'), "export const word = 'apiaries';\n");
  expect(await built()).toContain('apiaries');
  writeFileSync(join(folder, 'src/main.ts'), 'import "./not-there";');
  await expect(built()).rejects.toThrow(/not-there/);
  // By itself, with the plugin: the size, and origins that are declared and not named, or named and not declared.
  writeFileSync(join(folder, 'src/main.ts'), "fetch('https://api.meadow.example/x');\n");
  const plugin = new URL('../../dist/vite.mjs', import.meta.url).href;
  writeFileSync(
    join(folder, 'vite.config.mjs'),
    `import { singlePage } from ${JSON.stringify(plugin)};\nexport default { plugins: [singlePage({ csp: { resourceDomains: ['https://fonts.meadow.example'] }, maxBytes: 10_000 })] };\n`,
  );
  const vite = new URL('../../../../node_modules/vite/bin/vite.js', import.meta.url).pathname;
  const { code, stdout, stderr } = await run(process.execPath, [vite, 'build'], { cwd: folder });
  expect(code).toBe(0);
  expect(stdout + stderr).toMatch(/index\.html: one page of \d+\.\d kB/);
  expect(stdout + stderr).toContain('Keep it under 10 kB');
  expect(stdout + stderr).toContain('does not declare: https://api.meadow.example (connectDomains)');
  expect(stdout + stderr).toContain('does not name: https://fonts.meadow.example (resourceDomains)');
}, 60_000);

test('jexo check says what is wrong with a view', async () => {
  const folder = freshFolder('check');
  writeFileSync(
    join(folder, 'bad.html'),
    `<button onclick="go()">x</button><img src="https://img.meadow.example/a.png"><script>view.say('Please book the inspection'); view.say(\`Booked for \${1}.\`)</script>`,
  );
  writeFileSync(
    join(folder, 'server.ts'),
    `import { defineServer, tool, view } from 'jexo';
export default defineServer({ name: 'a', version: '1.0.0', offers: [
  tool('weigh', { description: 'Weighs a hive of the apiary.', view: view('bad', { file: new URL('./bad.html', import.meta.url), description: 'A page that shows a hive.', csp: { connectDomains: ['http://127.0.0.1:1'] } }) }, () => '31'),
  tool('gone', { description: 'Looks for a hive that nobody has.', view: 'not-there' }, () => '31'),
] });
`,
  );
  const { code, stdout } = await jexo(['check', join(folder, 'server.ts'), '--json']);
  const found = (JSON.parse(stdout) as { findings: { rule: string; message: string }[] }).findings.filter(({ rule }) =>
    rule.startsWith('view-'),
  );
  expect(Object.fromEntries(found.map(({ rule, message }) => [rule, message]))).toEqual({
    'view-unreadable': "Its view ui://view/not-there can't be read: it is not listed.",
    'view-blocked-origin': expect.stringContaining('https://img.meadow.example'),
    'view-wide-csp': expect.stringContaining('http://127.0.0.1:1'),
    'view-unreachable-origin': expect.stringContaining('http://127.0.0.1:1'),
    'view-no-size': expect.any(String),
    'view-inline-handler': expect.stringContaining('onclick'),
    'view-asks-model': expect.stringContaining('Please book the inspection'),
  });
  expect(code).toBe(1);
  const large = join(folder, 'large.ts');
  writeFileSync(
    large,
    `import { defineServer, tool, view } from 'jexo';
export default defineServer({ name: 'a', version: '1.0.0', offers: [tool('weigh', { description: 'Weighs a hive of the apiary.', view: view('large', { html: '<p>ui/notifications/size-changed' + 'x'.repeat(600_000), description: 'A page that shows a hive.' }) }, () => '31')] });
`,
  );
  expect((await jexo(['check', large])).stdout).toContain('600 kB');
});

import { mkdirSync, renameSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import fc from 'fast-check';
import { defineServer, offers, tool, wrapFunctions, type Client, type ProgressUpdate } from '../../src/index.js';
import { toJson } from '../../src/sources/functions/to-json.js';
import { openTargets } from '../../src/targets/open-targets.js';
import { watchTargets, type Reloaded } from '../../src/targets/watch-targets.js';
import { connect } from '../support/connect.js';
import { freshFolder } from '../support/command-line.js';

const folder = freshFolder('wrap');
let count = 0;
function write(source: string, extension = 'ts'): string {
  const file = join(folder, `wrapped${++count}.${extension}`);
  writeFileSync(file, source);
  return file;
}
const open: Client[] = [];
afterEach(async () => void (await Promise.all(open.splice(0).map((client) => client.close()))));
async function serve(source: string, extension = 'ts'): Promise<Client> {
  const client = await connect(write(source, extension));
  open.push(client);
  return client;
}
async function names(client: Client): Promise<string[]> {
  return (await client.tools()).map(({ name }) => name);
}
const textOf = (answer: { content: readonly object[] }) => (answer.content[0] as { text?: string }).text;

describe('classes and objects', () => {
  test('a class that needs nothing is made once; its methods and its static functions are tools', async () => {
    const client = await serve(`
      class Base { inherited(): string { return 'from the base' } }
      /** The scale at the gate. */
      export class Scale extends Base {
        private total = 0;
        constructor(private readonly factor = 2) { super() }
        /** Puts something on it. */
        add(kg: number): number { this.total += kg * this.factor; return this.total }
        static toGrams(kg: number): number { return kg * 1000 }
        get current() { return this.total }
        private hidden() {} protected guarded() {} _odd() {}
        /** @internal */
        inner() {}
      }`);
    expect((await names(client)).sort()).toEqual(['scale_add', 'scale_inherited', 'scale_to_grams']);
    await client.call('scale_add', { kg: 3 });
    expect((await client.call('scale_add', { kg: 4 })).structuredContent).toEqual({ result: 14 });
    expect((await client.call('scale_to_grams', { kg: 1.5 })).structuredContent).toEqual({ result: 1500 });
    expect(textOf(await client.call('scale_inherited'))).toBe('from the base');
  });

  const needy = `export class Ledger { constructor(readonly owner: string) {} whose(): string { return this.owner } }`;

  test('a class that needs arguments is given, or named with what to do', async () => {
    const file = write(needy);
    const { server } = await openTargets([file]);
    expect((await server.catalogue()).omitted).toMatchObject([{ name: 'Ledger', next: expect.stringContaining('instances') }]);
    const module = (await import(
      pathToFileURL(write('export class Ledger { constructor(owner) { this.owner = owner } whose() { return this.owner } }', 'mjs')).href
    )) as {
      Ledger: new (owner: string) => object;
    };
    const client = await connect(
      defineServer({
        name: 'x',
        version: '1',
        offers: [wrapFunctions(module, { types: file, instances: { Ledger: new module.Ledger('the registrar') } })],
      }),
    );
    open.push(client);
    expect(textOf(await client.call('ledger_whose'))).toBe('the registrar');
  });

  test('an exported instance and an object of functions are offered by their name, a default export by its members', async () => {
    const client = await serve(`
      class Meter { constructor(private unit: string) {} read(n: number): string { return n + this.unit } }
      export const meter = new Meter('kg');
      export const words = { loud: (text: string): string => text.toUpperCase(), deep: { not: () => 1 } };
      export const config = { retries: 3 };
      export default { twice(n: number): number { return n * 2 } };`);
    expect((await names(client)).sort()).toEqual(['meter_read', 'twice', 'words_loud']);
    expect(textOf(await client.call('meter_read', { n: 4 }))).toBe('4kg');
    expect(textOf(await client.call('words_loud', { text: 'hum' }))).toBe('HUM');
    expect((await client.call('twice', { n: 4 })).structuredContent).toEqual({ result: 8 });
  });

  test('a function that is exported twice under one name is one offer; abstract classes are named', async () => {
    const file = write(`export function mean(a: number): number { return a } export default { mean };
      export abstract class Source { read(): number { return 1 } }`);
    const { server } = await openTargets([file]);
    const { tools, omitted } = await server.catalogue();
    expect([...tools.keys()]).toEqual(['mean']);
    expect(omitted).toMatchObject([{ name: 'Source', why: expect.stringContaining('abstract') }]);
  });
});

describe('tags', () => {
  const tagged = `
    /** The record of a hive.
     *  @resource hive://{hive}/{year}
     *  @mimeType application/json
     *  @title A hive's record */
    export function record(hive: string, year: number): object | undefined { return hive === 'MR-99' ? undefined : { hive, year, kind: typeof year } }
    /** All apiaries. @resource alderwick://apiaries */
    export const apiaries = (): string[] => ['MR', 'UC'];
    /** Starts a talk about a hive.
     *  @prompt
     *  @param hive which one
     *  @param visits how many visits to look at */
    export function talkAbout(hive: string, visits = 3, season?: 'spring' | 'autumn'): string { return hive + ' ' + (visits + 1) + (season ?? '') }
    /** Adds. @as add_up
     *  @icon https://alderwick.example/plus.png
     *  @task
     *  @tags sums, daily
     *  @idempotent
     *  @example plus(1, 2) // 3
     *  @example
     *  \`\`\`ts
     *  console.log(plus(-1.5))
     *  \`\`\` */
    export function plus(a: number, b = 1): number { return a + b }
    /** Closes a hive for good.
     *  @confirm Close {hive}? */
    export function close(hive: string): string { return 'closed ' + hive }`;

  test('offer a function as a resource, a template or a prompt', async () => {
    const client = await serve(tagged);
    expect((await client.templates()).map(({ uriTemplate, mimeType, title }) => [uriTemplate, mimeType, title])).toEqual([
      ['hive://{hive}/{year}', 'application/json', "A hive's record"],
    ]);
    expect(JSON.parse(((await client.read('hive://MR-03/2026')).contents[0] as { text: string }).text)).toEqual({
      hive: 'MR-03',
      year: 2026,
      kind: 'number',
    });
    await expect(client.read('hive://MR-99/2026')).rejects.toThrow(/not found/i);
    expect(((await client.read('alderwick://apiaries')).contents[0] as { text: string }).text).toContain('"MR"');
    expect((await client.prompts())[0]).toMatchObject({
      name: 'talk_about',
      arguments: [
        { name: 'hive', description: 'which one', required: true },
        { name: 'visits', description: 'how many visits to look at', required: false },
        { name: 'season', required: false },
      ],
    });
    const { messages } = await client.prompt('talk_about', { hive: 'MR-03', visits: '4' });
    expect(messages).toEqual([{ role: 'user', content: { type: 'text', text: 'MR-03 5' } }]);
    expect((await client.complete({ type: 'ref/prompt', name: 'talk_about' }, { name: 'season', value: 'sp' })).values).toEqual(['spring']);
  });

  test('give names, icons, tasks, examples and questions', async () => {
    const file = write(tagged);
    const asked: string[] = [];
    const client = await connect(file, {
      elicitation: {
        form: ({ message }) => (asked.push(message), { action: message.includes('MR-99') ? 'decline' : 'accept', content: {} }),
      },
    });
    open.push(client);
    const plus = (await client.tools()).find(({ name }) => name === 'add_up')!;
    expect(plus).toMatchObject({
      icons: [{ src: 'https://alderwick.example/plus.png' }],
      execution: { taskSupport: 'optional' },
      annotations: { idempotentHint: true },
      inputSchema: { examples: [{ a: 1, b: 2 }, { a: -1.5 }] },
    });
    expect((await client.call('add_up', { a: 1 })).structuredContent).toEqual({ result: 2 });
    expect(textOf(await client.call('close', { hive: 'MR-03' }))).toBe('closed MR-03');
    expect((await client.call('close', { hive: 'MR-99' })).isError).toBe(true);
    expect(asked).toEqual(['Close MR-03?', 'Close MR-99?']);
  });

  test('that cannot be right are named', async () => {
    const { server } = await openTargets([
      write(`
      /** @resource */ export function a(): string { return '' }
      /** @resource hive://{hive} */ export function b(hive: string, year: number): string { return '' }
      /** @resource hive://all */ export function c(year: number): string { return '' }`),
    ]);
    const { omitted } = await server.catalogue();
    expect(omitted.map(({ name, why }) => [name, why])).toEqual([
      ['a', expect.stringContaining('without a URI')],
      ['b', expect.stringContaining('year, which its URI does not name')],
      ['c', expect.stringContaining('its URI has no variables')],
    ]);
  });
});

describe('answers', () => {
  test('items that come one by one are told as progress and collected; cancelling stops their maker', async () => {
    const client = await serve(`
      let stopped = false;
      export async function* count(to: number): AsyncGenerator<{ n: number }> { for (let n = 1; n <= to; n++) yield { n } }
      export async function* forever(): AsyncGenerator<number> { try { for (let n = 0; ; n++) { yield n; await new Promise((go) => setImmediate(go)) } } finally { stopped = true } }
      export function wasStopped(): boolean { return stopped }`);
    const seen: ProgressUpdate[] = [];
    const answer = await client.call('count', { to: 3 }, { onProgress: (update) => seen.push(update) });
    expect(answer.structuredContent).toEqual({ result: [{ n: 1 }, { n: 2 }, { n: 3 }] });
    expect(seen[0]).toEqual({ progress: 1, message: '{"n":1}' });
    const stop = new AbortController();
    await expect(client.call('forever', {}, { signal: stop.signal, onProgress: () => stop.abort() })).rejects.toThrow();
    for (let tries = 0; tries < 1000; tries++) {
      await new Promise((go) => setImmediate(go));
      if ((await client.call('was_stopped')).structuredContent?.result === true) return;
    }
    throw new Error('It goes on for ever.');
  });

  test('bytes of a media kind leave as that, whatever carries them', async () => {
    const client = await serve(`
      const bytes = new Uint8Array([104, 105]);
      /** @mimeType image/png */ export function photo(): Uint8Array { return bytes }
      export function sound(): Blob { return new Blob([bytes], { type: 'audio/wav' }) }
      export async function page(): Promise<File> { return new File([bytes], 'page.html', { type: 'text/html' }) }
      /** @mimeType application/pdf */ export function paper(): ReadableStream { return new Blob([bytes]).stream() as never }
      export function plain(): Uint8Array { return bytes }
      export function nested(): { photos: Blob[]; later: { at: Date } } { return { photos: [new Blob([bytes])], later: { at: new Date(0) } } }`);
    const contentOf = async (name: string) => (await client.call(name)).content[0];
    expect(await contentOf('photo')).toEqual({ type: 'image', mimeType: 'image/png', data: 'aGk=' });
    expect(await contentOf('sound')).toEqual({ type: 'audio', mimeType: 'audio/wav', data: 'aGk=' });
    expect(await contentOf('page')).toEqual({
      type: 'resource',
      resource: { uri: 'answer:page/page.html', mimeType: 'text/html', text: 'hi' },
    });
    expect(await contentOf('paper')).toEqual({
      type: 'resource',
      resource: { uri: 'answer:paper/file', mimeType: 'application/pdf', blob: 'aGk=' },
    });
    expect((await client.call('plain')).structuredContent).toEqual({ result: 'aGk=' });
    expect((await client.call('nested')).structuredContent).toEqual({
      photos: [{ data: 'aGk=' }],
      later: { at: '1970-01-01T00:00:00.000Z' },
    });
  });

  test('a text is read as it is; nothing says that it is done', async () => {
    const client = await serve(
      `export function say(): string { return 'two\\nlines' } export function act(): void {} export function maybe(): number | undefined { return undefined }`,
    );
    expect(await client.call('say')).toMatchObject({
      content: [{ type: 'text', text: 'two\nlines' }],
      structuredContent: { result: 'two\nlines' },
    });
    expect(textOf(await client.call('act'))).toBe('Done.');
    expect((await client.call('maybe')).isError).toBeFalsy();
  });

  test('errors on purpose are told with their causes; defects are a reference for the model and a trace for the operator', async () => {
    const faults: [string, unknown][] = [];
    const client = await connect(
      write(`
      export function refuse(): number { throw new Error('Hive MR-99 is not known', { cause: new Error('the register ends at MR-12') }) }
      export function check(): number { throw new TypeError('mites must be counted, not guessed') }
      export function defect(): number { return (undefined as any).length }
      export function nan(): { mean: number } { return { mean: 0 / 0 } }
      export function cycle(): any { const a: any = {}; a.me = a; return a }
      export function asked(): Error { return new RangeError('too far', { cause: 'the fence' }) }`),
      { onFault: (error, reference) => faults.push([reference, error]) },
    );
    open.push(client);
    const told = async (name: string) => {
      const answer = await client.call(name);
      expect(answer.isError).toBe(true);
      return textOf(answer);
    };
    expect(await told('refuse')).toBe('Hive MR-99 is not known\nCaused by: the register ends at MR-12');
    expect(await told('check')).toBe('mites must be counted, not guessed');
    const text = (await told('defect'))!;
    expect(text).not.toMatch(/length|undefined/);
    expect(faults).toMatchObject([[/reference (\w+)/.exec(text)![1], expect.any(TypeError)]]);
    expect(await told('nan')).toMatch(/at mean is NaN/);
    expect(await told('cycle')).toMatch(/contains itself at me/);
    expect((await client.call('asked')).structuredContent).toEqual({ name: 'RangeError', message: 'too far', cause: 'the fence' });
  });
});

test('what JSON can carry is given as JSON would, whatever it is', () => {
  fc.assert(
    fc.property(fc.jsonValue({ maxDepth: 4 }), (value) => {
      expect(JSON.stringify(toJson(value))).toBe(JSON.stringify(value));
    }),
  );
  fc.assert(
    fc.property(fc.dictionary(fc.string(), fc.oneof(fc.date({ noInvalidDate: true }), fc.uint8Array(), fc.bigInt())), (value) => {
      const through = JSON.parse(JSON.stringify(toJson(new Map(Object.entries(value))))) as Record<string, string>;
      expect(Object.keys(through).sort()).toEqual(Object.keys(value).sort());
      for (const [key, item] of Object.entries(value)) {
        if (item instanceof Date) expect(new Date(through[key]!)).toEqual(item);
        else if (typeof item === 'bigint') expect(BigInt(through[key]!)).toBe(item);
        else expect(Uint8Array.from(Buffer.from(through[key]!, 'base64'))).toEqual(item);
      }
    }),
  );
});

describe('a choice', () => {
  const file = write(`
    /** @tags sums */ export function addUp(a: number): number { return a }
    /** @tags sums */ export function takeAway(a: number): number { return a }
    export function mean(a: number): number { return a }
    export function bad(a: symbol): void {}`);
  const listed = async (choice: object) => {
    const { tools, excluded, omitted } = await (await openTargets([file], { choice })).server.catalogue();
    return { names: [...tools.keys()], excluded, omitted: omitted.map(({ name }) => name), tools };
  };

  test.each([
    [{ only: ['mean'] }, ['mean'], ['add_up', 'take_away']],
    [{ only: ['addUp', 'mean'] }, ['add_up', 'mean'], ['take_away']],
    [{ only: ['*a*'], except: ['mean'] }, ['add_up', 'take_away'], ['mean']],
    [{ only: ['tag:sums'] }, ['add_up', 'take_away'], ['mean']],
    [{ except: ['tag:sums'] }, ['mean'], ['add_up', 'take_away']],
    [{ rename: { mean: 'average' }, prefix: 'math_' }, ['math_add_up', 'math_take_away', 'math_average'], []],
  ])('%j', async (choice, names, excluded) => {
    expect(await listed(choice)).toMatchObject({ names, excluded });
  });

  test('describes, and says nothing of what was not asked for', async () => {
    const { tools, omitted } = await listed({ only: ['mean'], describe: { mean: 'The middle of all.' } });
    expect(tools.get('mean')!.offer.description).toBe('The middle of all.');
    expect(omitted).toEqual([]);
    expect((await listed({})).omitted).toEqual(['bad']);
  });

  test.each([
    [{ only: ['mesn'] }, /only names "mesn"/, 'Did you mean mean?'],
    [{ rename: { nothing_like: 'x' } }, /rename names "nothing_like"/, expect.stringContaining('jexo list')],
    [{ only: ['bad'] }, /only names "bad"/, expect.stringContaining('is a symbol')],
  ])('that names nothing is an error: %j', async (choice, message, next) => {
    await expect(listed(choice)).rejects.toMatchObject({ code: 'JEXO_CHOICE', message: expect.stringMatching(message), next });
  });

  test('that makes two names one is refused with both places', async () => {
    await expect(listed({ rename: { mean: 'add_up' } })).rejects.toMatchObject({
      code: 'JEXO_NAME_CLASH',
      message: expect.stringMatching(/wrapped\d+\.ts:2.*wrapped\d+\.ts:4/s),
    });
  });

  test('joins several sources under prefixes of their own', async () => {
    const one = (name: string) => tool(name, { description: name }, () => name);
    const client = await connect(
      defineServer({
        name: 'x',
        version: '1',
        offers: [offers([one('list'), one('add')], { prefix: 'hive_' }), offers([one('list')], { prefix: 'lot_' }), one('list')],
      }),
    );
    open.push(client);
    expect(await names(client)).toEqual(['hive_list', 'hive_add', 'lot_list', 'list']);
    expect(textOf(await client.call('lot_list'))).toBe('list');
  });
});

describe('packages and declarations', () => {
  const project = freshFolder('project');
  const inside = async <T>(run: () => Promise<T>): Promise<T> => {
    const before = process.cwd();
    process.chdir(project);
    try {
      return await run();
    } finally {
      process.chdir(before);
    }
  };
  const put = (path: string, content: string) => {
    mkdirSync(join(project, path, '..'), { recursive: true });
    writeFileSync(join(project, path), content);
  };
  put('node_modules/mathly/package.json', JSON.stringify({ name: 'mathly', version: '3.1.4', main: 'main.cjs', types: 'main.d.ts' }));
  put('node_modules/mathly/main.cjs', 'module.exports = { mean: (list) => list.reduce((a, b) => a + b, 0) / list.length };');
  put(
    'node_modules/mathly/main.d.ts',
    `/** The mean of a list. */ export declare function mean(list: number[]): number; export declare function gone(): void;
     import type { Stats } from 'elsewhere'; export declare function describe(list: number[]): Stats;`,
  );
  put('node_modules/elsewhere/package.json', JSON.stringify({ name: 'elsewhere', version: '1.0.0', types: 'i.d.ts' }));
  put('node_modules/elsewhere/i.d.ts', 'export interface Stats { least: number; most: number }');
  put(
    'node_modules/@alderwick/days/package.json',
    JSON.stringify({
      name: '@alderwick/days',
      version: '1.0.0',
      type: 'module',
      exports: { './count': { types: './count.d.ts', default: './count.js' } },
    }),
  );
  put('node_modules/@alderwick/days/count.js', 'export default function count(from, to) { return (to - from) / 864e5 }');
  put('node_modules/@alderwick/days/count.d.ts', 'export default function count(from: Date, to: Date): number;');
  put('beside.js', 'export function twice(n) { return n * 2 }');
  put('beside.d.ts', '/** Doubles. */ export declare function twice(n: number): number;');
  put('plain.mjs', '/** Triples. @param {number} n what */\nexport function thrice(n) { return n * 3 }');
  put(
    'element.tsx',
    'export function width(props: { px: number }): number { const node = <div>{props.px}</div>; return node ? props.px : 0 }',
  );

  test('a package is wrapped by its name, read from its types, and what only its types promise is named', async () => {
    const { tools, omitted, info } = await inside(async () => {
      const { server } = await openTargets(['mathly']);
      return { ...(await server.catalogue()), info: server.info };
    });
    expect(info).toMatchObject({ name: 'mathly', version: '3.1.4' });
    expect([...tools.keys()]).toEqual(['mean']);
    expect(tools.get('mean')!.offer).toMatchObject({ description: 'The mean of a list.', where: 'mathly/main.d.ts:1' });
    expect(omitted.map(({ name }) => name)).toEqual(['gone', 'describe']);
    const client = await inside(() => connect('mathly'));
    open.push(client);
    expect((await client.call('mean', { list: [1, 2, 6] })).structuredContent).toEqual({ result: 3 });
  });

  test('a path inside a package, a declaration beside a script, and JSDoc are read too', async () => {
    const client = await inside(() => connect('@alderwick/days/count'));
    open.push(client);
    expect((await client.call('count', { from: '2026-06-01T00:00:00Z', to: '2026-06-03T00:00:00Z' })).structuredContent).toEqual({
      result: 2,
    });
    for (const [file, name, result] of [
      ['beside.js', 'twice', 6],
      ['plain.mjs', 'thrice', 9],
    ] as const) {
      const other = await inside(() => connect(join(project, file)));
      open.push(other);
      expect((await other.call(name, { n: 3 })).structuredContent).toEqual({ result });
    }
  });

  test('a package that is not there, and one without types, say what to do', async () => {
    await expect(inside(() => openTargets(['nosuch']))).rejects.toMatchObject({
      code: 'JEXO_TARGET_MISSING',
      next: expect.stringContaining('npm install nosuch'),
    });
    put('node_modules/untyped/package.json', JSON.stringify({ name: 'untyped', version: '1.0.0', main: 'i.js' }));
    put('node_modules/untyped/i.js', 'exports.f = () => 1');
    const { server } = await inside(() => openTargets(['untyped']));
    await inside(
      async () =>
        void (await server
          .catalogue()
          .catch((error: { code: string; next: string }) => expect(error).toMatchObject({ code: 'JEXO_TYPE_UNREADABLE' }))),
    );
  });
});

describe('reading again', () => {
  const base = `export function one(): number { return 1 }`;
  async function watched(source: string) {
    const file = write(source);
    const heard: Reloaded[] = [];
    const waiting: (() => void)[] = [];
    const { server, close } = await watchTargets([file], {
      onReload: (reloaded) => (heard.push(reloaded), waiting.splice(0).forEach((go) => go())),
    });
    let told = 0;
    const tellers = new Set<() => void>();
    const client = await connect(server, { onToolsChanged: () => (told++, tellers.forEach((check) => check())) });
    open.push(client);
    return {
      file,
      client,
      close,
      /** Waits until the client has been told so many times; notices that come close together are one. */
      toldTimes: (times: number) =>
        new Promise<number>((resolve) => {
          const check = () => told >= times && resolve(told);
          tellers.add(check);
          check();
        }),
      /** Saves, as many editors do: a new file moved over the old one. */
      async save(text: string): Promise<Reloaded> {
        const before = heard.length;
        writeFileSync(`${file}.tmp`, text);
        renameSync(`${file}.tmp`, file);
        while (heard.length === before) await new Promise<void>((go) => waiting.push(go));
        return heard.at(-1)!;
      },
    };
  }

  test('sessions live on, see what is new, and a broken save changes nothing', async () => {
    const { client, save, close, toldTimes } = await watched(base);
    try {
      expect(await names(client)).toEqual(['one']);
      expect(await save(`${base}\nexport function two(): number { return 2 }`)).toMatchObject({ ok: true, added: ['two'], removed: [] });
      expect(await names(client)).toEqual(['one', 'two']);
      expect(await toldTimes(1)).toBe(1);
      const broken = await save(`${base}\nexport function three(: number {`);
      expect(broken).toMatchObject({ ok: false, error: { code: 'JEXO_SYNTAX', where: expect.stringMatching(/wrapped\d+\.ts:2:\d+$/) } });
      expect(await names(client)).toEqual(['one', 'two']);
      expect(await save(`throw new Error('not today');\n${base}`)).toMatchObject({ ok: false, error: { code: 'JEXO_MODULE_FAILED' } });
      expect((await client.call('two')).structuredContent).toEqual({ result: 2 });
      expect(await save(`${base.replace('return 1', 'return 11')}`)).toMatchObject({ ok: true, removed: ['two'] });
      expect(await toldTimes(2)).toBe(2);
      expect((await client.call('one')).structuredContent).toEqual({ result: 11 });
    } finally {
      close();
    }
  });

  test('a call in flight finishes on what it began with, and what is kept is kept', async () => {
    const source = (answer: string) => `
      import { kept } from 'jexo';
      const state = kept('visits ${count}', () => ({ visits: 0, release: (_: string) => {} }));
      export function visit(): number { return ++state.visits }
      export function wait(): Promise<string> { return new Promise((resolve) => (state.release = () => resolve('${answer}'))) }
      export function go(): void { state.release('') }`;
    const first = source('old');
    const { client, save, close } = await watched(first);
    try {
      await client.call('visit');
      const waiting = client.call('wait');
      await save(first.replace("'old'", "'new'"));
      await client.call('go');
      expect(textOf(await waiting)).toBe('old');
      expect((await client.call('visit')).structuredContent).toEqual({ result: 2 });
    } finally {
      close();
    }
  });
});

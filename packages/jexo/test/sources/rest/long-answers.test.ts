import { bearer } from '../../../src/index.js';
import { documentOf, fakeApi, ok, textOf, wrapped, type Sent } from '../../support/fake-api.js';

describe('long answers', () => {
  const pages = (name: string, item: object = {}) =>
    documentOf({
      '/hives': {
        get: {
          operationId: 'listHives',
          parameters: [{ name, in: 'query', schema: { type: name === 'cursor' ? 'string' : 'integer' } }],
          ...ok({ type: 'object', properties: { items: { type: 'array', items: item }, next: {} } }),
        },
      },
    });
  const all = Array.from({ length: 25 }, (_, index) => ({ id: index }));

  test.each([
    [
      'page',
      ({ url }: Sent) => {
        const page = Number(url.searchParams.get('page') ?? 1);
        return Response.json({ items: all.slice((page - 1) * 10, page * 10) });
      },
    ],
    [
      'offset',
      ({ url }: Sent) => {
        const from = Number(url.searchParams.get('offset') ?? 0);
        return Response.json({ items: all.slice(from, from + 10) });
      },
    ],
    [
      'cursor',
      ({ url }: Sent) => {
        const from = Number(url.searchParams.get('cursor') ?? 0);
        return Response.json({ items: all.slice(from, from + 10), next: from + 10 < 25 ? String(from + 10) : null });
      },
    ],
    [
      'page',
      ({ url }: Sent) => {
        const from = Number(url.searchParams.get('from') ?? 0);
        return Response.json(
          { items: all.slice(from, from + 10) },
          { headers: from + 10 < 25 ? { link: `</v1/hives?from=${from + 10}>; rel="next"` } : {} },
        );
      },
    ],
  ])('pages are followed on request, by %s', async (name, answer) => {
    const { sent, send } = fakeApi(answer);
    const { client } = await wrapped(pages(name), { send });
    expect((await client.call('list_hives')).structuredContent).toMatchObject({ items: all.slice(0, 10) });
    expect(sent).toHaveLength(1);
    const progress: number[] = [];
    const whole = await client.call('list_hives', { pages: 9 }, { onProgress: (update) => progress.push(update.progress) });
    expect(whole.structuredContent!.items).toEqual(all);
    expect(sent.length).toBeLessThanOrEqual(5);
    expect((await client.call('list_hives', { pages: 2 })).structuredContent!.items).toEqual(all.slice(0, 20));
    expect(progress.length).toBeGreaterThanOrEqual(2);
  });

  test('a next page elsewhere is refused, and what came before a fault is kept', async () => {
    const elsewhere = fakeApi(() => Response.json({ items: [1], next: 'http://evil.example/next' }));
    const first = await wrapped(pages('cursor'), { send: elsewhere.send });
    expect(textOf(await first.client.call('list_hives', { pages: 3 }))).toContain(
      'evil.example for the next page, a host that was not declared',
    );
    expect(elsewhere.sent).toHaveLength(1);
    // A host that was declared is asked, but not told who we are.
    const two = fakeApi(({ url }) =>
      Response.json({ items: [1], next: url.host === 'files.example' ? null : 'http://files.example/next' }),
    );
    const declared = await wrapped(pages('cursor'), {
      send: two.send,
      hosts: ['files.example'],
      auth: bearer('t-123456'),
      headers: { 'X-Own': 'own' },
    });
    expect((await declared.client.call('list_hives', { pages: 3 })).structuredContent).toEqual({ items: [1, 1], next: null });
    expect(two.sent.map(({ url, headers }) => [url.host, headers.get('authorization'), headers.get('x-own')])).toEqual([
      ['registry.example', 'Bearer t-123456', 'own'],
      ['files.example', null, null],
    ]);
    const failing = fakeApi(({ url }) =>
      url.searchParams.has('page') ? new Response('', { status: 500 }) : Response.json({ items: all.slice(0, 10) }),
    );
    const second = await wrapped(pages('page'), { send: failing.send, maxRetries: 0 });
    const kept = await second.client.call('list_hives', { pages: 3 });
    expect([kept.structuredContent, textOf(kept)]).toEqual([
      { items: all.slice(0, 10) },
      expect.stringContaining('Page 2 could not be fetched (HTTP 500)'),
    ]);
  });

  test('are cut with a pointer to the rest', async () => {
    const { send } = fakeApi(() => Response.json({ items: all.map(({ id }) => ({ id, note: 'x'.repeat(100) })), next: null }));
    const { client } = await wrapped(pages('page', { type: 'object' }), { send, answerCharacters: 1000 });
    const cut = await client.call('list_hives');
    const note = cut.content[1] as { text: string };
    expect((cut.structuredContent!.items as unknown[]).length).toBeLessThan(10);
    expect(note.text).toMatch(
      /^This answer was cut: \d of 25 items of items\. The full answer, \d+ characters, is at registry-answer:\/\/[0-9a-f-]{36}\/1/,
    );
    const [place] = /registry-answer:\/\/[0-9a-f-]{36}/.exec(note.text)!;
    let whole = '';
    for (let part = 1; part < 10; part++) {
      const [contents] = (await client.read(`${place}/${part}`)).contents as unknown as { text: string }[];
      whole += contents!.text.replace(/\n\(continued at .*\)$/, '');
      if (!contents!.text.includes('continued at')) break;
    }
    expect(JSON.parse(whole).items).toHaveLength(25);
    await expect(client.read(`${place}/99`)).rejects.toMatchObject({ code: -32002 });
  });

  test('fields are chosen by a JMESPath expression', async () => {
    const { send } = fakeApi(() => Response.json({ items: all, next: null }));
    const { client, tool } = await wrapped(pages('page'), { send, jmespath: true });
    expect(tool('list_hives').outputSchema).toBeUndefined();
    expect(textOf(await client.call('list_hives', { jmespath: 'items[:3].id' }))).toBe('[0,1,2]');
    expect(await client.call('list_hives', { jmespath: 'items[' })).toMatchObject({
      isError: true,
      content: [{ text: expect.stringContaining('no JMESPath expression') }],
    });
  });

  test('pictures, sounds, texts and bytes come as what they are; an answer that breaks its promise says so', async () => {
    let answer = () => new Response('');
    const { send } = fakeApi(() => answer());
    const { client } = await wrapped(
      documentOf({
        '/a': { get: { operationId: 'first', ...ok() } },
        '/b': { get: { operationId: 'second', ...ok({ type: 'object', properties: { n: { type: 'integer' } } }) } },
      }),
      { send },
    );
    const as = (type: string) => () => new Response('abc', { headers: { 'content-type': type } });
    for (const [type, expected] of [
      ['image/png', [{ type: 'image', data: 'YWJj', mimeType: 'image/png' }]],
      ['audio/wav', [{ type: 'audio', data: 'YWJj', mimeType: 'audio/wav' }]],
      ['text/csv; charset=utf-8', [{ type: 'text', text: 'abc' }]],
      [
        'application/zip',
        [
          { type: 'text', text: '3 bytes of application/zip (200).' },
          { type: 'resource', resource: expect.objectContaining({ blob: 'YWJj' }) },
        ],
      ],
    ] as const) {
      answer = as(type);
      expect((await client.call('first')).content).toEqual(expected);
    }
    answer = () => Response.json({ n: 'many' });
    expect(textOf(await client.call('second'))).toMatch(/does not promise:\n- n: .*\nIts answer: \{"n":"many"\}/);
    answer = () => Response.json({ n: null, more: 1 });
    expect((await client.call('second')).structuredContent).toEqual({ n: null, more: 1 });
    answer = () => new Response(null, { status: 204 });
    expect(await client.call('second')).toMatchObject({ structuredContent: {}, content: [{ text: 'Done: 204 without content.' }] });
  });

  test('of many answers that were cut, the latest twenty can be read on', async () => {
    const { send } = fakeApi(({ url }) =>
      Response.json({ items: Array.from({ length: 100 }, (_, index) => `${url.searchParams.get('page')}-${index}`) }),
    );
    const { client } = await wrapped(pages('page', { type: 'string' }), { send, answerCharacters: 300 });
    const places: string[] = [];
    for (let page = 1; page <= 22; page++)
      places.push(/registry-answer:\/\/[\w-]+\/1/.exec(textOf(await client.call('list_hives', { page })))![0]);
    const readable = await Promise.all(
      places.map((uri) =>
        client.read(uri).then(
          ({ contents }) => (contents[0] as { text: string }).text.includes('-0'),
          () => false,
        ),
      ),
    );
    expect(readable).toEqual([false, false, ...Array.from({ length: 20 }, () => true)]);
  });
});

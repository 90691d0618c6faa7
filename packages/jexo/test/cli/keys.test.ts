import { readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect } from '../../src/index.js';
import { findKey, createKey } from '../../src/auth/key-file.js';
import { freshFolder, hives, jexo, start } from '../support/command-line.js';

interface Shown {
  readonly key: string;
  readonly id: string;
}
const add = async (folder: string, ...words: string[]): Promise<Shown> => {
  const { code, stdout, stderr } = await jexo(['keys', 'add', ...words, '--json'], { cwd: folder });
  if (code !== 0) throw new Error(stderr);
  return JSON.parse(stdout) as Shown;
};
const withKey = (key: string) => ({ headers: { Authorization: `Bearer ${key}` } });
const until = async (check: () => Promise<boolean>) => {
  for (let tries = 0; tries < 2400; tries++) {
    if (await check()) return;
    await new Promise((resolve) => setTimeout(resolve, 25));
  }
  throw new Error('It never came to be.');
};

test('keys are shown once, kept as hashes, listed, rotated and revoked', async () => {
  const folder = freshFolder('keys');
  const file = join(folder, 'keys.json');
  const { key, id } = await add(folder, 'lab', '--scope', 'hives:read', '--expires', '2099-01-01');
  expect(key).toMatch(/^jexo_[0-9a-z]{10}_[\w-]{43}$/);
  const text = readFileSync(file, 'utf8');
  expect([text.includes(key), text.includes(key.split('_').slice(2).join('_')), text.includes(id)]).toEqual([false, false, true]);
  expect(statSync(file).mode & 0o777).toBe(0o600);
  await add(folder, 'keeper');
  const listed = await jexo(['keys', 'list'], { cwd: folder });
  expect(listed.stdout).toMatch(/lab\s+good.*2099-01-01.*hives:read/);
  expect(listed.stdout + listed.stderr).not.toContain(key);
  const rotated = JSON.parse((await jexo(['keys', 'rotate', 'lab', '--json'], { cwd: folder })).stdout) as Shown & { scopes: string[] };
  expect([rotated.key === key, rotated.scopes]).toEqual([false, ['hives:read']]);
  expect((await jexo(['keys', 'revoke', 'keeper'], { cwd: folder })).code).toBe(0);
  const left = JSON.parse((await jexo(['keys', 'list', '--json'], { cwd: folder })).stdout) as { keys: { name: string; hash?: string }[] };
  expect(left.keys.map(({ name, hash }) => [name, hash])).toEqual([['lab', undefined]]);
  for (const [words, code, says] of [
    [['revoke', 'nobody'], 3, 'No key in'],
    [['add'], 2, 'Who is the key for?'],
    [['burn', 'x'], 2, 'not burn'],
    [[], 2, 'keys can add'],
    [['add', 'x', '--expires', 'yesterday'], 2, 'no day to come'],
    [['list', '--keys', 'gone.json'], 3, 'There is no file of keys'],
  ] as const) {
    const done = await jexo(['keys', ...words], { cwd: folder });
    expect([words, done.code, done.stderr]).toEqual([words, code, expect.stringContaining(says)]);
  }
  writeFileSync(file, '{"keys":[{"id":"x"}]}');
  expect((await jexo(['keys', 'list'], { cwd: folder })).stderr).toContain('is no file of keys');
});

test('a server lets in only who has a key, each with its own tags and limits; changes are taken up without a restart', async () => {
  const folder = freshFolder('keys-serve');
  const file = join(folder, 'keys.json');
  const all = await add(folder, 'keeper');
  const some = await add(folder, 'lab', '--tag', 'feeding');
  const few = await add(folder, 'guest', '--calls-per-minute', '2');
  writeFileSync(
    join(folder, 'bees.ts'),
    `${readFileSync(hives, 'utf8')}\n/** Feeds.\n *  @tags feeding */\nexport function feed(): string { return 'fed'; }\n`,
  );
  const wire = join(folder, 'wire.jsonl');
  const running = await start(
    ['serve', 'bees.ts', '--http', '0', '--host', '0.0.0.0', '--allow-host', '*', '--keys', file, '--wire-log', wire, '--json'],
    { cwd: folder },
  );
  const address = String(running.said.address).replace('0.0.0.0', '127.0.0.1');
  const refused = await connect(address).catch((error: Error) => error);
  expect(refused).toMatchObject({ data: { status: 401 } });
  await expect(connect(address, withKey(`${all.key.slice(0, -1)}${all.key.endsWith('A') ? 'B' : 'A'}`))).rejects.toThrow();
  await expect(connect(address, withKey('jexo_nothing'))).rejects.toThrow();
  const [keeper, lab, guest] = [
    await connect(address, withKey(all.key)),
    await connect(address, withKey(some.key)),
    await connect(address, withKey(few.key)),
  ];
  expect((await keeper.tools()).length).toBeGreaterThan(3);
  expect((await lab.tools()).map(({ name }) => name)).toEqual(['feed']);
  await expect(lab.call('mix_syrup', { colonies: 1 })).rejects.toThrow('Unknown tool');
  expect((await keeper.call('mix_syrup', { colonies: 1 })).structuredContent).toMatchObject({ sugarKg: 1 });
  const answers = [];
  for (let call = 0; call < 4; call++) answers.push((await guest.call('feed')).isError ?? false);
  expect(answers).toEqual([false, false, true, true]);
  // Another key with somebody's session id finds no session.
  const opened = await fetch(address, {
    method: 'POST',
    headers: { 'content-type': 'application/json', accept: 'application/json, text/event-stream', ...withKey(all.key).headers },
    body: JSON.stringify({
      jsonrpc: '2.0',
      id: 1,
      method: 'initialize',
      params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'x', version: '1' } },
    }),
  });
  const session = opened.headers.get('mcp-session-id')!;
  const post = (key: string) =>
    fetch(address, {
      method: 'POST',
      headers: {
        'content-type': 'application/json',
        accept: 'application/json, text/event-stream',
        'mcp-session-id': session,
        ...withKey(key).headers,
      },
      body: JSON.stringify({ jsonrpc: '2.0', id: 2, method: 'ping' }),
    });
  expect([(await post(all.key)).status, (await post(few.key)).status]).toEqual([200, 404]);
  expect((await jexo(['keys', 'revoke', 'keeper'], { cwd: folder })).code).toBe(0);
  await until(async () => (await post(all.key)).status === 401);
  const late = await add(folder, 'late');
  await until(
    async () =>
      (await connect(address, withKey(late.key)).then(
        (client) => client.close(),
        () => 'no',
      )) === undefined,
  );
  writeFileSync(file, 'no json');
  await until(async () => (await post(late.key)).status >= 500);
  // The keys that were known before are not taken again.
  for (let look = 0; look < 4; look++) {
    await new Promise((resolve) => setTimeout(resolve, 300));
    expect((await post(late.key)).status).toBe(401);
  }
  await Promise.all([lab.close(), guest.close(), keeper.close()].map((closing) => closing.catch(() => undefined)));
  await running.stop();
  const written = running.stderr() + readFileSync(wire, 'utf8');
  for (const { key } of [all, some, few, late]) expect(written).not.toContain(key.split('_').slice(2).join('_'));
});

test('serve logs a line for every call and shows counts; keys guard the counts, and stand in neither', async () => {
  const folder = freshFolder('logs');
  const { key } = await add(folder, 'lab');
  const log = join(folder, 'calls.log');
  const running = await start(['serve', hives, '--http', '0', '--keys', join(folder, 'keys.json'), '--log', log, '--metrics', '--json']);
  const address = String(running.said.address);
  const client = await connect(address, withKey(key));
  await client.call('mix_syrup', { colonies: 12 });
  await client.call('mix_syrup', { colonies: 0 });
  await client.close();
  const lines = readFileSync(log, 'utf8')
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as Record<string, unknown>);
  expect(lines).toEqual([
    {
      level: 'info',
      time: expect.stringMatching(/^20.*Z$/),
      caller: expect.stringMatching(/^[0-9a-z]{10}$/),
      session: expect.stringMatching(/^[0-9a-f]{12}$/),
      revision: '2025-11-25',
      request: expect.any(String),
      method: 'tools/call',
      bytes: 116,
      kind: 'tool',
      offer: 'mix_syrup',
      outcome: 'ok',
      ms: expect.any(Number),
    },
  ]);
  const metricsOf = (headers = {}) => fetch(address.replace('/mcp', '/metrics'), { headers });
  expect((await metricsOf()).status).toBe(401);
  const shown = await (await metricsOf(withKey(key).headers)).text();
  expect(shown).toContain('jexo_calls_total{method="tools/call",kind="tool",offer="mix_syrup",outcome="ok"} 1');
  expect(shown).toContain('nodejs_eventloop_lag_seconds');
  expect(await running.stop()).toBe(0);
  for (const text of [shown, readFileSync(log, 'utf8'), running.stderr()]) expect(text).not.toContain(key.split('_').slice(2).join('_'));
  const plain = await start(['serve', hives, '--http', '0', '--log', '--json'], { env: { NO_COLOR: '1' } });
  const other = await connect(String(plain.said.address));
  await other.call('mix_syrup', { colonies: 1 });
  await other.close();
  await plain.stop();
  expect(plain.stderr()).toMatch(/"offer":"mix_syrup",.*"outcome":"ok"/);
});

test('without keys, an address that others can reach is refused; over stdio keys mean nothing', async () => {
  const folder = freshFolder('keys-open');
  await add(folder, 'x');
  const bare = await jexo(['serve', hives, '--http', '0', '--host', '0.0.0.0']);
  expect([bare.code, bare.stderr]).toEqual([2, expect.stringContaining('JEXO_OPEN')]);
  const stdio = await jexo(['serve', hives, '--keys', join(folder, 'keys.json')]);
  expect([stdio.code, stdio.stderr]).toEqual([2, expect.stringContaining('Keys are sent over HTTP')]);
  const gone = await jexo(['serve', hives, '--http', '0', '--keys', join(folder, 'gone.json')]);
  expect([gone.code, gone.stderr]).toEqual([3, expect.stringContaining('There is no file of keys')]);
});

test('a key counts as it is, until it expires', () => {
  const { key, kept } = createKey({ name: 'x', expires: new Date(1000).toISOString() });
  const all = new Map([[kept.id, kept]]);
  expect(findKey(key, all, 999)?.name).toBe('x');
  expect(findKey(key, all, 1000)).toBeUndefined();
  for (const wrong of [
    '',
    key.slice(0, -1),
    `${key}x`,
    key.toUpperCase(),
    ` ${key}`,
    key.replace('jexo', 'jex0'),
    key.replaceAll('_', '-'),
  ])
    expect(findKey(wrong, all, 0)).toBeUndefined();
  expect(findKey(key, new Map([[kept.id, { ...kept, hash: 'short' }]]), 0)).toBeUndefined();
});

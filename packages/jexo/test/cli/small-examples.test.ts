import { fileURLToPath } from 'node:url';
import { run } from '../support/command-line.js';
import { withNginx } from '../support/nginx.js';

const example = (path: string) => fileURLToPath(new URL(`../../../../examples/${path}`, import.meta.url));

test('a host in 40 lines: two servers, a call that a rule allows, an answer', async () => {
  const { code, stdout, stderr } = await run(process.execPath, [
    example('host/host.mjs'),
    'How much sugar do 12 colonies need for thick autumn syrup?',
  ]);
  expect([code, stderr]).toEqual([0, '']);
  expect(stdout).toMatch(/✓ mix_syrup .*"colonies":12/);
  expect(stdout).toContain('sugarKg: 24');
});

test('keys: each caller sees what its key shows, is held to its limit, and is out when its key is revoked', async () => {
  const { code, stdout, stderr } = await run(process.execPath, [example('keys/run.mjs')]);
  expect([code, stderr]).toEqual([0, '']);
  expect(stdout).toContain('lab sees    moisture\n');
  expect(stdout).toMatch(/third time: Too many calls/);
  expect(stdout).toMatch(/after its key was revoked: .*HTTP 401/);
});

test('OAuth: a person signs in, and agrees to more when a tool needs it', async () => {
  const { code, stdout, stderr } = await run(process.execPath, [example('oauth/run.mjs')]);
  expect([code, stderr]).toEqual([0, '']);
  expect(stdout).toMatch(/without a token: .*HTTP 401/);
  expect(stdout).toMatch(/allow hives:read\?[\s\S]*31\.4 kg[\s\S]*allow hives:read and hives:write\?[\s\S]*noted[\s\S]*kept: 0/);
});

withNginx(
  'two processes on Redis behind nginx: a session counts on whichever answers, also while one is stopped',
  async () => {
    const { code, stdout, stderr } = await run(process.execPath, [example('two-processes/run.mjs'), '--once']);
    expect([code, stderr]).toEqual([0, '']);
    const calls = [...stdout.matchAll(/call (\d+), answered by process (\w+)/g)].map(([, n, by]) => [Number(n), by]);
    expect(calls.map(([n]) => n)).toEqual([1, 2, 3, 4, 5, 6, 7, 8]);
    expect(new Set(calls.slice(0, 4).map(([, by]) => by))).toEqual(new Set(['one', 'two']));
  },
  60_000,
);

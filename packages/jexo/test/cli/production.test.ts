import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { spawn } from 'node:child_process';
import { connect, type Client } from '../../src/index.js';
import { freePort } from '../support/nginx.js';
import { cli, freshFolder, hives, jexo, start } from '../support/command-line.js';

const until = async (check: () => boolean | Promise<boolean>) => {
  for (let tries = 0; tries < 2400; tries++) {
    if (await check()) return;
    await new Promise((resolve) => setTimeout(resolve, 25));
  }
  throw new Error('It never came to be.');
};
const names = async (url: string): Promise<string[]> => {
  const client = await connect(url, { timeoutMs: 3000 });
  try {
    return (await client.tools()).map(({ name }) => name);
  } finally {
    await client.close();
  }
};

interface Shown {
  readonly settings: readonly { readonly name: string; readonly value: unknown; readonly from: string }[];
}
const plan = `name: apiary
serve:
  http: true
  path: /from-plan
  grace: 3
  log: calls.log
  only: [mix_syrup]
offers:
  - functions: ${hives}
  - rest: { openapi: 3.1.0 }
`;

test('settings: an option before the environment, before .env, before the plan, before PORT and what is usual', async () => {
  const folder = freshFolder('settings');
  writeFileSync(join(folder, 'apiary.jexo.yaml'), plan.replace(/ {2}- rest.*\n/, ''));
  writeFileSync(join(folder, '.env'), 'JEXO_GRACE=5\nJEXO_ALLOW_HOST=a.example,b.example\nNODE_OPTIONS=--bad\nMINE=1\n');
  const shown = async (words: readonly string[], env: Record<string, string> = {}) => {
    const { code, stdout, stderr } = await jexo(['serve', 'apiary.jexo.yaml', ...words, '--print-settings', '--json'], {
      cwd: folder,
      env,
    });
    if (code !== 0) throw new Error(stderr);
    return new Map((JSON.parse(stdout) as Shown).settings.map(({ name, value, from }) => [name, [value, from]]));
  };
  const plain = await shown([], { PORT: '4399', HOST: '127.0.0.1' });
  expect(plain.get('http')).toEqual([4399, 'PORT']);
  expect(plain.get('host')).toEqual(['127.0.0.1', 'HOST']);
  expect(plain.get('path')).toEqual(['/from-plan', 'plan file']);
  expect(plain.get('grace')).toEqual([5, 'JEXO_GRACE in .env']);
  expect(plain.get('allowHosts')).toEqual([['a.example', 'b.example'], 'JEXO_ALLOW_HOST in .env']);
  expect(plain.get('log')).toEqual([join(folder, 'calls.log'), 'plan file']);
  expect(plain.get('only')).toEqual([['mix_syrup'], 'plan file']);
  expect(plain.get('drain')).toEqual([0, 'default']);
  const given = await shown(['--path', '/option', '--http', '4400'], {
    JEXO_PATH: '/env',
    JEXO_GRACE: '7',
    JEXO_ONLY: 'days_*',
    PORT: '1',
  });
  expect([given.get('path'), given.get('grace'), given.get('http'), given.get('only')]).toEqual([
    ['/option', '--path'],
    [7, 'JEXO_GRACE'],
    [4400, '--http'],
    [['days_*'], 'JEXO_ONLY'],
  ]);
  // Some shells set HOST to the name of the machine.
  expect((await shown([], { HOST: 'my-machine' })).get('host')).toEqual(['127.0.0.1', 'default']);
  const text = await jexo(['serve', 'apiary.jexo.yaml', '--print-settings'], { cwd: folder });
  expect(text.stdout).toMatch(/setting +value +from\n/);
  for (const [env, says] of [
    [{ JEXO_HTTP: 'many' }, 'JEXO_HTTP must be a whole number'],
    [{ JEXO_METRICS: 'perhaps' }, 'JEXO_METRICS must be true or false'],
    [{ PORT: '99999' }, 'PORT must be a whole number'],
  ] as const) {
    const failed = await jexo(['serve', 'apiary.jexo.yaml', '--print-settings'], { cwd: folder, env: { ...env } });
    expect([failed.code, failed.stderr]).toEqual([2, expect.stringContaining(says)]);
  }
});

test('secrets are not printed with the settings', async () => {
  const folder = freshFolder('secrets');
  const api = {
    openapi: '3.1.0',
    info: { title: 'Registry', version: '1' },
    servers: [{ url: 'http://127.0.0.1:9' }],
    components: { securitySchemes: { registryToken: { type: 'http', scheme: 'bearer' } } },
    security: [{ registryToken: [] }],
    paths: { '/hives': { get: { operationId: 'list_hives', summary: 'Lists hives.', responses: { 200: { description: 'Hives.' } } } } },
  };
  writeFileSync(join(folder, 'registry.openapi.json'), JSON.stringify(api));
  writeFileSync(join(folder, '.env'), 'REGISTRY_TOKEN=s3cret-of-the-registry\n');
  const { stdout, stderr, code } = await jexo(['serve', 'registry.openapi.json', '--print-settings'], { cwd: folder });
  expect([code, stdout]).toEqual([0, expect.stringMatching(/REGISTRY_TOKEN +\(hidden\) +\.env/)]);
  expect(stdout + stderr).not.toContain('s3cret-of-the-registry');
});

test.each([
  [['--keys', 'k.json'], 'Keys are sent over HTTP'],
  [['--workers', '2'], 'Several processes can only share a port of HTTP'],
  [['--metrics'], '--metrics means something over HTTP only'],
  [['--admin-port', '1'], '--admin-port means something over HTTP only'],
  [['--http', '0', '--tls-cert', 'x'], 'HTTPS needs both'],
  [['--http', '0', '--path', 'mcp'], '--path must start with a slash'],
  [['--http', '0', '--proxy', 'nginx'], 'named by its address or network'],
  [['--http', '0', '--public-url', 'apiary'], 'The public address must be as'],
])('what cannot be meant is refused: %j', async (words, says) => {
  const { code, stderr } = await jexo(['serve', hives, ...words]);
  expect([code, stderr]).toEqual([2, expect.stringContaining(says)]);
});

test('switches are followed by file and by signal, and a bad file changes nothing', async () => {
  const folder = freshFolder('switches');
  const file = join(folder, 'switches.json');
  writeFileSync(file, '{ "only": ["mix_syrup"] }');
  const running = await start(['serve', hives, '--http', '0', '--switches', file, '--json']);
  const url = running.said.address as string;
  try {
    expect(await names(url)).toEqual(['mix_syrup']);
    let told = 0;
    const client = await connect(url, { onToolsChanged: () => told++ });
    writeFileSync(file, '{ "except": ["mix_syrup"] }');
    await until(async () => !(await names(url)).includes('mix_syrup'));
    await until(() => told === 1);
    await expect(client.call('mix_syrup')).rejects.toThrow('Unknown tool');
    writeFileSync(file, '{ "only": "mix_syrup" }');
    await until(() => running.stderr().includes('only must be a list of texts. What was switched on stays so.'));
    expect(await names(url)).not.toContain('mix_syrup');
    writeFileSync(file, '{}');
    running.child.kill('SIGHUP');
    await until(() => running.stderr().includes('everything is on'));
    expect(await names(url)).toContain('mix_syrup');
    await client.close();
  } finally {
    await running.stop();
  }
  const bad = await jexo(['serve', hives, '--http', '0', '--switches', join(folder, 'none.json')]);
  expect([bad.code, bad.stderr]).toEqual([3, expect.stringContaining('JEXO_SWITCHES')]);
});

test('a log that nobody reads any more does not stop the server', async () => {
  const port = await freePort();
  // Nothing ever reads this pipe: it is full after some 64 kB.
  const child = spawn(process.execPath, [cli, 'serve', hives, '--http', String(port), '--log', '--no-page'], {
    stdio: ['ignore', 'ignore', 'pipe'],
  });
  try {
    let client: Client | undefined;
    await until(async () => {
      client ??= await connect(`http://127.0.0.1:${port}/mcp`).catch(() => undefined);
      return client !== undefined;
    });
    for (let count = 0; count < 1500; count++) {
      const { isError } = await client!.call('mix_syrup', { colonies: 1, season: 'autumn' });
      if (isError) throw new Error('it failed');
    }
    await client!.close();
  } finally {
    child.kill('SIGKILL');
  }
}, 60_000);

describe('workers', () => {
  test('share a port, keep sessions where they began, count together, and end together', async () => {
    const folder = freshFolder('workers');
    const log = join(folder, 'calls.log');
    const words = ['serve', hives, '--http', '0', '--workers', '2', '--metrics', '--admin-port', '0', '--log', log, '--json'];
    const running = await start(words, { cwd: folder });
    const { address: url, admin } = running.said as { address: string; admin: string };
    const text = async (at: string) => (await fetch(at)).text();
    // Each connection goes to either worker, whoever has the session.
    const clients = await Promise.all(Array.from({ length: 6 }, () => connect(url)));
    const answers = await Promise.all(
      clients.flatMap((client) =>
        Array.from({ length: 10 }, (_, colonies) => client.call('mix_syrup', { colonies: colonies + 1, season: 'autumn' })),
      ),
    );
    expect(answers.filter(({ isError }) => isError)).toEqual([]);
    await until(async () => /jexo_sessions 6\n/.test(await text(`${admin}/metrics`)));
    expect(await text(`${admin}/metrics`)).toContain('jexo_calls_total{method="tools/call",kind="tool",offer="mix_syrup",outcome="ok"} 60');
    expect(readFileSync(log, 'utf8').trim().split('\n')).toHaveLength(60);
    await Promise.all(clients.map((client) => client.close()));
    await until(async () => /jexo_sessions 0\n/.test(await text(`${admin}/metrics`)));
    expect(await running.stop('SIGTERM')).toBe(0);
  });

  test('one that dies is replaced, and clients begin again; one that cannot start says why and ends all', async () => {
    const folder = freshFolder('worker-dies');
    const file = join(folder, 'die.mjs');
    writeFileSync(file, 'export function pid() { return process.pid; }\nexport function ping() { return "here"; }\n');
    const running = await start(['serve', file, '--http', '0', '--workers', '2', '--json'], { cwd: folder });
    const url = running.said.address as string;
    try {
      const client = await connect(url);
      const pid = Number(((await client.call('pid')).content[0] as { text: string }).text);
      expect(pid).not.toBe(running.child.pid);
      process.kill(pid, 'SIGKILL');
      await until(() => running.stderr().includes('another takes its place'));
      await until(async () => {
        try {
          return (await names(url)).includes('ping');
        } catch {
          return false;
        }
      });
      // The session went with the worker: the client is told so, and has begun a new one.
      await until(async () =>
        client.call('ping', {}, { timeoutMs: 3000 }).then(
          ({ isError }) => isError !== true,
          () => false,
        ),
      );
      await client.close();
    } finally {
      await running.stop();
    }
    const { code, stderr } = await jexo(['serve', join(folder, 'none.mjs'), '--http', '0', '--workers', '3']);
    expect([code, stderr]).toEqual([3, expect.stringContaining('none.mjs')]);
  });

  test('end when what started them is killed', async () => {
    const folder = freshFolder('worker-orphans');
    const file = join(folder, 'pid.mjs');
    writeFileSync(file, 'export function pid() { return process.pid; }\n');
    const running = await start(['serve', file, '--http', '0', '--workers', '2', '--json'], { cwd: folder });
    const client = await connect(running.said.address as string);
    const pid = Number(((await client.call('pid')).content[0] as { text: string }).text);
    await client.close();
    await running.stop('SIGKILL');
    await until(() => {
      try {
        return !process.kill(pid, 0);
      } catch {
        return true;
      }
    });
  });
});

import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { rules } from '../../src/inspect/checks/finding.js';
import { cooperative, freshFolder, hives, jexo, start } from '../support/command-line.js';
import { listen } from '../support/listen.js';

const poor = fileURLToPath(new URL('../support/poor-server.mjs', import.meta.url));
const apiary = join(cooperative, 'apiary.ts');

interface Found {
  readonly findings: readonly { rule: string; severity: string; subject: string; where?: string; message: string; remedy: string }[];
  readonly silenced: readonly { rule: string; reason: string }[];
}
async function check(...args: string[]) {
  const { code, stdout, stderr } = await jexo(['check', '--json', ...args], { env: { SLOW: '3100' } });
  return { code, stderr, ...(JSON.parse(stdout) as Found) };
}

test('the demo passes with no finding', async () => {
  for (const target of [apiary, hives]) {
    const { code, findings } = await check(target, '--fail-on', 'note');
    expect([findings, code]).toEqual([[], 0]);
  }
});

test('a deliberately poor server yields each finding once', async () => {
  const { code, findings } = await check('--', process.execPath, poor);
  // Every rule but the one on what could not be read, which is for modules, the one on headers, which is for HTTP, and those of sources.
  expect(findings.map(({ rule }) => rule).sort()).toEqual(
    Object.keys(rules)
      .filter(
        (rule) =>
          // Views have a test of their own.
          !rule.startsWith('view-') &&
          !['omitted', 'wrong-headers', 'query-without-limit', 'select-star', 'table-without-key', 'guide-over-budget', 'remark'].includes(
            rule,
          ),
      )
      .sort(),
  );
  expect(code).toBe(1);
  const of = (rule: string) => findings.find((each) => each.rule === rule)!;
  expect(of('confusable-tools')).toMatchObject({ subject: 'tool queen_line', message: expect.stringMatching(/queen_lines.*\(queen, /) });
  expect(of('list-size').message).toMatch(/largest: huge ~1\d{4}/);
  expect(of('invisible-characters').message).toContain('U+200B');
  expect(of('parameter-without-description').subject).toBe('tool weigh kg');
  for (const { message, remedy } of findings) expect([message, remedy]).toEqual([expect.stringMatching(/\.$/), expect.any(String)]);
});

test('over HTTP, headers and statuses are judged, each deviation once; a server of ours has none', async () => {
  const results: Record<string, object> = {
    initialize: { protocolVersion: '2025-11-25', capabilities: { tools: {} }, serverInfo: { name: 'poor', version: '1' } },
    'tools/list': {
      tools: [
        { name: 'weigh', description: 'Weighs a colony by the gate.', inputSchema: { type: 'object' }, outputSchema: { type: 'object' } },
      ],
    },
  };
  const { url, close } = await listen(async (request) => {
    if (request.method !== 'POST') return new Response(null, { status: 404 });
    const { id, method } = (await request.json()) as { id?: number; method: string };
    const headers = { 'mcp-session-id': 'session 1' };
    if (id === undefined) return new Response(null, { status: 200, headers });
    const type = method === 'initialize' ? 'text/plain' : 'application/json; charset=utf-8';
    const answer = JSON.stringify({ jsonrpc: '2.0', id, result: results[method] ?? {} });
    return new Response(answer, { headers: { ...headers, 'content-type': type } });
  });
  const { code, findings } = await check(`${url}/mcp`);
  await close();
  expect(code).toBe(1);
  expect(
    findings
      .filter(({ rule }) => rule === 'wrong-headers')
      .map(({ message }) => message)
      .sort(),
  ).toEqual([
    'A GET is answered with HTTP 404 and no content type: a server without a stream of its own answers 405.',
    'The session id "session 1" holds characters that are not visible ASCII.',
    'initialize is answered with HTTP 200 and the content type text/plain: it must be application/json or text/event-stream.',
    'notifications/initialized is answered with HTTP 200 and no content type: what is no request is answered 202, with no body.',
  ]);

  const ours = await start(['serve', hives, '--http', '0', '--json']);
  expect((await check(String(ours.said.address))).findings).toEqual([]);
  await ours.stop();
});

describe('a module', () => {
  const file = join(freshFolder('check'), 'lots.ts');
  writeFileSync(
    file,
    `export function count(jars: number): number { return jars }
/** Bottles honey into jars of one size. @param jars how many */
export function bottle(jars: number): void {}
export function pour(into: symbol): void {}`,
  );

  test('is reported by file and line, and so is what could not be offered', async () => {
    const { code, findings } = await check(file);
    expect(code).toBe(1);
    expect(findings.map(({ rule, subject, where }) => [rule, subject, where?.replace(/^.*lots/, 'lots')])).toEqual([
      ['no-description', 'tool count', 'lots.ts:1'],
      ['parameter-without-description', 'tool count jars', 'lots.ts:1'],
      ['omitted', 'function pour', 'lots.ts:4'],
      ['no-output-schema', 'tool bottle', 'lots.ts:3'],
    ]);
  });

  test('a finding can be silenced with a reason, and the severity that fails be chosen', async () => {
    const silenced = await check(file, '--silence', 'no-description:count=its name says all', '--silence', 'omitted=known');
    expect(silenced.findings.map(({ rule }) => rule)).toEqual(['parameter-without-description', 'no-output-schema']);
    expect(silenced.silenced.map(({ rule, reason }) => [rule, reason])).toEqual([
      ['no-description', 'its name says all'],
      ['omitted', 'known'],
    ]);
    expect(silenced.code).toBe(0);
    expect((await check(file, '--silence', 'no-description=x', '--fail-on', 'warning')).code).toBe(1);
    expect((await check(file, '--fail-on', 'never')).code).toBe(0);
    for (const wrong of ['nonsense', 'no-such-rule=x', 'omitted='])
      expect(await jexo(['check', file, '--silence', wrong])).toMatchObject({ code: 2, stderr: expect.stringContaining('rule=reason') });
  });

  test('as SARIF, with places', async () => {
    const { stdout } = await jexo(['check', file, '--sarif']);
    const { version, runs } = JSON.parse(stdout) as {
      version: string;
      runs: { tool: { driver: { rules: { id: string }[] } }; results: { ruleId: string; level: string; locations: object[] }[] }[];
    };
    expect(version).toBe('2.1.0');
    const ids = new Set(runs[0]!.tool.driver.rules.map(({ id }) => id));
    expect(runs[0]!.results.every(({ ruleId }) => ids.has(ruleId))).toBe(true);
    expect(runs[0]!.results[0]).toMatchObject({
      level: 'error',
      locations: [{ physicalLocation: { artifactLocation: { uri: expect.stringMatching(/lots\.ts$/) }, region: { startLine: 1 } } }],
    });
  });

  test('for people, grouped by what it is about, with the remedy', async () => {
    const { stdout, stderr } = await jexo(['check', file]);
    expect(stdout).toMatch(/tool count {2}\S*lots\.ts:1 {2}no-description\n {2}It has no description\.\n {2}Say what it does/);
    expect(stderr).toContain('1 error, 2 warnings, 1 note');
  });
});

test('findings that say the same are grouped, with places from where one stands', async () => {
  const folder = freshFolder('grouped');
  mkdirSync(join(folder, 'lots'));
  writeFileSync(
    join(folder, 'lots/lots.ts'),
    ['jars', 'lids', 'labels'].map((name) => `export function ${name}(): number { return 1 }`).join('\n'),
  );
  const { stdout } = await jexo(['check', 'lots/lots.ts'], { cwd: folder });
  expect(stdout).toMatch(
    /3 offers {2}no-description\n {2}tool jars +lots\/lots\.ts:1\n {2}tool lids +lots\/lots\.ts:2\n {2}tool labels +lots\/lots\.ts:3\n/,
  );
  expect(stdout.match(/It has no description/g)).toHaveLength(1);
  const sarif = JSON.parse((await jexo(['check', join(folder, 'lots/lots.ts'), '--sarif'], { cwd: join(folder, 'lots') })).stdout) as {
    runs: { results: { locations: { physicalLocation: { artifactLocation: { uri: string } } }[] }[] }[];
  };
  const uris = sarif.runs[0]!.results.flatMap(({ locations }) => locations.map((each) => each.physicalLocation.artifactLocation.uri));
  expect(new Set(uris)).toEqual(new Set(['lots.ts']));
});

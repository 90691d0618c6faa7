import { appendFileSync, chmodSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import {
  approvalFile,
  approvals,
  connectAll,
  converse,
  defineServer,
  fileMemory,
  readRules,
  stepLog,
  tool,
  type Model,
  type Tool,
} from '../../src/index.js';
import { freshFolder } from '../support/command-line.js';

const folder = freshFolder('host-files');
const says = (text: string): Model => ({ name: 'm', isStandIn: false, next: () => Promise.resolve({ calls: [], text }) });
const server = defineServer({ name: 'lab', version: '1.0.0', offers: [tool('count', { description: 'Counts.' }, () => '3')] });

test('a conversation in a file goes on where it ended; a line that a killed process left half is passed over', async () => {
  const file = join(folder, 'talk.jsonl');
  const clients = await connectAll([server]);
  await converse({ clients, request: 'One?', model: says('First.'), memory: fileMemory(file) });
  appendFileSync(file, '{"role":"user","te');
  const kept = fileMemory(file);
  await converse({ clients, request: 'Two?', model: says('Second.'), memory: kept });
  expect((await kept.entries()).map((entry) => (entry.role === 'tool' ? '' : entry.text))).toEqual(['One?', 'First.', 'Two?', 'Second.']);
  expect(kept.unreadable()).toEqual([3]);
  expect(statSync(file).mode & 0o777).toBe(0o600);
  await kept.clear();
  expect(await kept.entries()).toEqual([]);
  await clients.close();
});

test('a memory that cannot be read or written says so with its file', async () => {
  await expect(Promise.resolve(fileMemory(folder).entries())).rejects.toMatchObject({ code: 'JEXO_MEMORY', where: folder });
  await expect(Promise.resolve(fileMemory(join(folder, 'no', 'such.jsonl')).add([{ role: 'user', text: 'x' }]))).rejects.toMatchObject({
    code: 'JEXO_MEMORY',
  });
});

const request = {
  tool: {
    name: 'count',
    ownName: 'count',
    server: 'lab',
    address: 'http://lab.example/mcp',
    label: 'lab › count',
    inputSchema: { type: 'object' },
  } as Tool & {
    ownName: string;
    server: string;
    address: string;
    label: string;
  },
  input: {},
  signal: new AbortController().signal,
};

test('approvals in a file hold for the next process, and not for a changed definition', async () => {
  const file = join(folder, 'sub', 'approvals.json');
  const ask = (said: 'tool' | 'no') => approvals({ store: approvalFile(file), person: () => said });
  expect(await ask('tool')(request)).toMatchObject({ approved: true, by: 'person' });
  expect(await ask('no')(request)).toMatchObject({ approved: true, by: 'earlier' });
  // Another server that took its name has not been approved.
  expect(await ask('no')({ ...request, tool: { ...request.tool, address: 'http://other.example/mcp' } })).toMatchObject({
    approved: false,
  });
  expect(await ask('no')({ ...request, tool: { ...request.tool, description: 'Counts and tells.' } })).toMatchObject({
    approved: false,
    by: 'person',
  });
  expect(JSON.parse(readFileSync(file, 'utf8'))).toMatchObject({
    'http://lab.example/mcp count': { isForAll: true, hash: expect.stringMatching(/^sha256-/) },
  });
  writeFileSync(file, 'nonsense');
  await expect(Promise.resolve(ask('tool')(request))).rejects.toMatchObject({ code: 'JEXO_APPROVALS', where: file });
});

test('rules are read from YAML; what is wrong is named', async () => {
  const file = join(folder, 'chat.rules.yaml');
  const read = (text: string) => (writeFileSync(file, text), readRules(file));
  expect(await read('allow: [read-only, "tag:lab"]\nask: [destructive]\n')).toEqual({
    allow: ['read-only', 'tag:lab'],
    ask: ['destructive'],
  });
  for (const [text, why] of [
    ['allow: read-only\n', 'allow is not a list'],
    ['permit: [x]\n', 'permit is not one of'],
    ['allow: ["read only"]\n', '"read only" is not a rule'],
    ['- x\n', 'it has none of'],
    ['allow: [\n', file],
  ] as const)
    await expect(read(text)).rejects.toMatchObject({ code: 'JEXO_APPROVALS', message: expect.stringContaining(why) });
});

test('the log of steps masks secrets, and a disk that refuses ends the log and not the conversation', async () => {
  const file = join(folder, 'steps.jsonl');
  const clients = await connectAll([
    defineServer({
      name: 'lab',
      version: '1.0.0',
      offers: [tool('count', { input: { type: 'object', properties: { password: { type: 'string' } } } }, () => '3')],
    }),
  ]);
  const moves = [{ calls: [{ id: 'a', name: 'count', input: { password: 'honeypot' } }] }, { calls: [], text: 'Three.' }];
  const model = (): Model => {
    const left = [...moves];
    return { name: 'm', isStandIn: false, next: () => Promise.resolve(left.shift()!) };
  };
  const log = stepLog(file);
  await converse({ clients, request: 'Count.', model: model(), approve: () => true, onStep: log.onStep });
  const lines = readFileSync(file, 'utf8')
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as { kind: string; time: string });
  expect(lines.map(({ kind }) => kind)).toEqual(['request', 'asked', 'moved', 'approval', 'call', 'result', 'asked', 'moved', 'ended']);
  expect(readFileSync(file, 'utf8')).not.toContain('honeypot');
  expect(log.trouble()).toBeUndefined();
  chmodSync(file, 0o400);
  const bad = stepLog(join(folder, 'no', 'such', 'file'));
  expect(await converse({ clients, request: 'Count.', model: model(), approve: () => true, onStep: bad.onStep })).toMatchObject({
    answer: 'Three.',
  });
  expect(bad.trouble()).toContain('cannot be written');
  await clients.close();
});

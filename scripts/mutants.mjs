// Breaks the lines of the library that obey the protocol, one at a time, and sees whether a test tagged with that line of the
// checklist fails. Writes docs/mutants.md; fails when a mutant survives. Takes two minutes, so it is run by hand: npm run mutants
import { spawnSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const source = join(root, 'packages/jexo/src');

/** Name, file, the line that obeys, what it becomes. The number is that of the checklist’s line. */
const mutants = [
  ['031 client', 'client/connect-link.ts', "const canTask = since(peer.revision, '2025-11-25') && ", 'const canTask = '],
  ['031 client: asked', 'client/answer-server.ts', 'if (known === undefined)', 'if (Date.now() < 0)'],
  ['031 server', 'protocol/shape-down.ts', "  if (since(revision, '2025-11-25')) return tool;", '  if (revision) return tool;'],
  [
    '032 client',
    'client/connect-link.ts',
    'return value !== undefined && value !== null && value !== false;',
    'return value !== undefined;',
  ],
  ['032 client: asked', 'client/answer-server.ts', 'if (handler === undefined) throw', 'if (Date.now() < 0) throw'],
  [
    '032 server',
    'offers/session.ts',
    "if (!since(this.peer.revision, '2025-06-18') || !isDeclared(elicitation)) return false;",
    'if (Date.now() > 0) return true;',
  ],
  ['041 client: no notice', 'engine/peer.ts', "waiting.method !== 'initialize' && !waiting.isTask", "waiting.method !== 'initialize'"],
  ['041 client: signal', 'client/task-handle.ts', "else signal?.addEventListener('abort', cancel, { once: true });", ''],
  ['041 server: cancel', 'engine/task-book.ts', '      here?.stop(cancelledByRequester);', '      void here;'],
  [
    '041 server: request',
    'engine/task-book.ts',
    '    void entry.run(work);',
    "    void entry.run(work); setTimeout(() => entry.stop('x'), 0);",
  ],
  [
    '048 client: task',
    'client/task-handle.ts',
    'onProgress === undefined ? () => undefined : session.peer.listenProgress(token, onProgress)',
    '() => undefined',
  ],
  ['048 server', 'engine/exchange.ts', '    this.finished = true;', ''],
  ['048 server: token', 'engine/exchange.ts', 'if (token === undefined || this.finished) return;', 'if (this.finished) return;'],
  ['068 both', 'offers/json-schema-check.ts', 'isDraft07(schema) ? Ajv : Ajv2020', 'isDraft07(schema) ? Ajv : Ajv'],
  ['068 both: refs', 'offers/json-schema-check.ts', 'if (validate(value)) return', 'if (validate(value) || true) return'],
  ['074', 'client/connect-link.ts', 'if (issues === undefined) return result;', 'if (issues === undefined || issues) return result;'],
  [
    '074: broken schema',
    'client/tool-knowledge.ts',
    '      } catch (error) {\n        spoil(name, error);\n        return undefined;',
    '      } catch (error) {\n        throw error;',
  ],
  ['112: none', 'client/answer-server.ts', '&& !hasStepUp(uri)', ''],
  ['112: once decoded', 'client/answer-server.ts', 'round < 3', 'round < 2'],
  ['112: backslash', 'client/answer-server.ts', '/(?:^|[/\\\\])\\.{1,2}(?:[/\\\\]|$)/', '/(?:^|[/])\\.{1,2}(?:[/]|$)/'],
  ['112: scheme', 'client/answer-server.ts', "uri.startsWith('file://') && ", ''],
  ['125: none', 'client/answer-server.ts', "request.tools === undefined ? 'none' : (request.toolChoice?.mode ?? 'auto')", "'auto'"],
  ['125: none refused', 'protocol/shape-down.ts', "if (toolUse === 'none' && usesTool)", 'if (Date.now() < 0)'],
  ['125: required', 'protocol/shape-down.ts', "if (toolUse === 'required' && !usesTool)", 'if (Date.now() < 0)'],
  ['152', 'client/connect-link.ts', "if ((await taskSupportOf(name, call)) === 'forbidden')", 'if (Date.now() < 0)'],
  ['153', 'client/connect-link.ts', "(await taskSupportOf(name, call)) === 'required'", 'Date.now() < 0'],
  ['153: unlisted', 'client/connect-link.ts', 'if (!tools.isKnown()) await list(', 'if (Date.now() < 0) await list('],
  ['153: checked', 'client/task-handle.ts', 'return await check(result as CallToolResult);', 'return result as CallToolResult;'],
  ['162 client', 'client/answer-server.ts', 'return withTask(handler(params, exchange), params);', 'return handler(params, exchange);'],
  ['162 server: result', 'engine/task-book.ts', '[relatedTaskKey]: { taskId: task.taskId } } };', '} };'],
  [
    '162 server: question',
    'engine/task-entry.ts',
    'return { ...params, _meta: { ...params._meta, [relatedTaskKey]: { taskId } } };',
    'void taskId; return { ...params };',
  ],
  [
    '191',
    'transports/http/http-connection.ts',
    "const from = lastEventId === undefined ? {} : { 'last-event-id': lastEventId };",
    'const from = {};\n    void lastEventId;',
  ],
  [
    '200: POST',
    'transports/http/post-message.ts',
    'if (response.status === 404 && usedSession !== undefined && connection.events.renew !== undefined && !isHandshake(message)) {',
    'if (Date.now() < 0) {',
  ],
  [
    '200: GET',
    'transports/http/listen-for-unasked.ts',
    'if (response.status === 404 && session !== undefined && hadStream)',
    'if (Date.now() < 0)',
  ],
  ['200: old id', 'transports/http/http-connection.ts', '      this.sessionId = undefined;\n      this.revision', '      this.revision'],
];

/** The tagged tests that fail, by the report of the run. */
function failures(tag) {
  const { stdout } = spawnSync(
    process.execPath,
    ['--experimental-vm-modules', '--no-warnings', 'node_modules/jest/bin/jest.js', 'client/both-sides', 'engine/peer', '-t', tag].concat([
      '--testTimeout=8000',
      '--forceExit',
      '--json',
      '--silent',
    ]),
    { cwd: root, encoding: 'utf8', timeout: 120_000, maxBuffer: 64 * 1024 * 1024 },
  );
  const { testResults } = JSON.parse(stdout);
  return testResults.flatMap(({ message, assertionResults }) =>
    // A mutant that does not even load proves nothing.
    assertionResults.length === 0
      ? [{ error: message }]
      : assertionResults
          .filter(({ status }) => status === 'failed')
          .map(({ title, ancestorTitles }) => ({ title: [...ancestorTitles, title].join(': ') })),
  );
}

const rows = [];
let survivors = 0;
for (const [name, file, from, to] of mutants) {
  const path = join(source, file);
  const text = readFileSync(path, 'utf8');
  if (text.split(from).length !== 2) throw new Error(`${name}: the line is not found once in ${file}`);
  let failed;
  try {
    writeFileSync(
      path,
      text.replace(from, () => to),
    );
    failed = failures(`MCP-${name.slice(0, 3)}`);
  } finally {
    writeFileSync(path, text);
  }
  if (failed.some(({ error }) => error !== undefined)) throw new Error(`${name} does not load: ${failed[0].error}`);
  if (failed.length === 0) survivors++;
  console.log(failed.length === 0 ? 'survives' : 'found   ', name);
  const found = failed.length === 0 ? '**nothing**' : failed.map(({ title }) => title.replaceAll(/\[MCP-\d{3}\] /g, '')).join('<br>');
  const code = (line) => (line === '' ? '*removed*' : `\`${line.trim().replaceAll(/\s+/g, ' ').replaceAll('|', '\\|')}\``);
  rows.push(`| MCP-${name} | ${file} | ${code(from)} | ${code(to)} | ${found.replaceAll('|', '\\|')} |`);
}
const page = [
  '# Mutants',
  '',
  'Each row breaks one line that obeys the protocol, and names the tests of that duty that fail then. Written by `npm run mutants`.',
  '',
  `${mutants.length - survivors} of ${mutants.length} mutants are found.`,
  '',
  '| Duty | File | Line | Becomes | Found by |',
  '|---|---|---|---|---|',
  ...rows,
];
writeFileSync(join(root, 'docs/mutants.md'), `${page.join('\n')}\n`);
if (survivors > 0) process.exitCode = 1;

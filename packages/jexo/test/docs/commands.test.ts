import { spawn, type ChildProcess } from 'node:child_process';
import { readFileSync, readdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { commands } from '../../src/cli/commands/index.js';
import { demoWorld, root, type DemoWorld } from './demo-world.js';

/** What is not run here, and why. */
const notHere: readonly (readonly [RegExp, string])[] = [
  [/^npm (?:install|ci|test|run|pack|publish)\b/, 'set-up: CI itself, the README’s tasks and the tests of packing run these'],
  [/^(?:git clone|docker|kubectl)\b/, 'needs a host, an engine or a cluster; the artefacts they take are run by the tests of the forms'],
  [/^jexo new weights --from view/, 'installs the published package; test/cli/new.test.ts runs it with the packed one'],
  [/^node scales\/load\.mjs (?:postgres|mysql)/, 'test/sources/database loads both'],
  [/^jexo serve (?:postgres|mqtts):/, 'other servers; test/sources/database and test/sources/live run them with users and TLS'],
  [/^node examples\/(?:host|keys|oauth|two-processes)\//, 'test/cli/small-examples.test.ts runs it, and reads what it prints'],
  [/^node bench\//, 'a measurement'],
];

/** Ends with another code than 0, which is what the document says. */
const codes: readonly (readonly [RegExp, number])[] = [
  [/^jexo rehearse .* --run$/, 2], // it asks a person, and nobody is there
];

/** Runs before a line, as what the reader of the page has. */
const before: readonly (readonly [RegExp, string])[] = [
  [
    /^jexo list examples\/cooperative/,
    `node -e "import('./examples/cooperative/scales-story.mjs').then(({ makeScales }) => makeScales())"`,
  ],
  [/^jexo call https:\/\/apiary\.example/, 'jexo sign-in https://apiary.example/mcp'],
  [/^jexo (?:register|inspect) http:\/\/127\.0\.0\.1:4300|^jexo replay .* http:/, 'jexo serve hives.ts --http 4300'],
  [/^jexo (?:check servers\.json|call servers\.json#hives)/, 'jexo register hives.ts --config servers.json --under servers --replace'],
  [/^jexo replay session\.jsonl/, 'jexo call hives.ts mix_syrup colonies=3 --wire-log session.jsonl'],
  [
    /^jexo serve hives\.ts --http 4300 --keys/,
    'export KEY=$(jexo keys add tunnel --keys keys.json --json | node -p "JSON.parse(fs.readFileSync(0)).key")',
  ],
];

const pages = [
  'README.md',
  'CONTRIBUTING.md',
  ...readdirSync(join(root, 'docs'))
    .filter((file) => file.endsWith('.md'))
    .map((file) => `docs/${file}`),
];

/** Files that a page writes, by page: the text of its n-th block of a language. */
const written: Record<string, readonly (readonly [file: string, language: string, blocks: readonly number[], before?: string])[]> = {
  'docs/conversations.md': [['chat.rules.yaml', 'yaml', [0]]],
  'docs/databases.md': [['queries/daily_weight.sql', 'sql', [0]]],
  'docs/extending.md': [['node_modules/ledger-files/package.json', 'json', [0]]],
  'docs/folders.md': [['handbook.questions.yaml', 'yaml', [0]]],
  'docs/graphql.md': [['operations/newest_lots.graphql', 'graphql', [0]]],
  'docs/plan-files.md': [['apiary.jexo.yaml', 'yaml', [0, 1]]],
  'docs/production.md': [['middle.jexo.yaml', 'yaml', [0], 'name: apiary\nversion: 1.0.0\noffers:\n  - functions: ./hives.ts\n']],
  'docs/sheets.md': [
    ['apiary.calls.yaml', 'yaml', [0]],
    ['hives.requests.yaml', 'yaml', [1]],
    ['apiary.requests.yaml', 'yaml', [2]],
  ],
};
/** Commands that a page implies with such a file. */
const implied: Record<string, readonly string[]> = {
  'docs/production.md': ['jexo call middle.jexo.yaml mix_syrup colonies=12'],
  'docs/sheets.md': ['jexo replay apiary.calls.yaml', 'jexo rehearse hives.ts hives.requests.yaml'],
};

/** The lines of a page's blocks, and the whole commands in its text. The tasks of the README have a test of their own. */
function linesOf(page: string): string[] {
  const text = readFileSync(join(root, page), 'utf8').replace(/<!-- tasks -->[\s\S]*<!-- \/tasks -->/, '');
  const blocks = [...text.matchAll(/```sh\n([\s\S]*?)```/g)].flatMap(([, block]) => block!.trim().split('\n'));
  const inline = [...text.replaceAll(/```[\s\S]*?```/g, '').matchAll(/`((?:npx )?(?:jexo|node) ([a-z]+)[ /][^`<…[]+)`/g)]
    .filter(([, line, command]) => Object.hasOwn(commands, command!) || line!.startsWith('node examples/'))
    .map(([, line]) => line!);
  return [...blocks, ...inline, ...(implied[page] ?? [])].map((line) => line.replace(/\s+#.*$/, '').trim());
}

let world: DemoWorld;
beforeAll(async () => (world = await demoWorld()));
afterAll(() => world.close());

/** One page's run: where it is, what it has exported, and what it has started. */
class Run {
  readonly #running = new Map<string, ChildProcess>();
  #folder: string;
  readonly #env: Record<string, string> = {};

  constructor(page: string) {
    this.#folder = world.freshFolder();
    const text = readFileSync(join(root, page), 'utf8');
    for (const [file, language, which, head = ''] of written[page] ?? []) {
      const blocks = [...text.matchAll(new RegExp(`\`\`\`${language}\\n([\\s\\S]*?)\`\`\``, 'g'))].map(([, block]) => block!);
      writeFileSync(join(this.#folder, file), head + this.#here(which.map((index) => blocks[index]!).join('')));
    }
  }

  /** Gives what a command that ends has printed. */
  async line(given: string): Promise<string> {
    const [, variable] = /^export (\w+)=/.exec(given) ?? [];
    if (variable !== undefined) return (this.#env[variable] = await this.#toTheEnd(`${given}; printf %s "$${variable}"`));
    const [, into] = /^cd (\S+)$/.exec(given) ?? [];
    if (into !== undefined) return (this.#folder = into.startsWith('examples') ? join(root, into) : join(this.#folder, into));
    const line = this.#here(given);
    const keepsRunning =
      /^(?:\w+=\S+ )*(?:npx )?jexo (?:serve .*--http|inspect|work)|^node examples\/(?:tunnel|mounted)/.test(line) && !/--print-/.test(line);
    return keepsRunning ? this.#start(line) : this.#toTheEnd(line);
  }

  #here(text: string): string {
    const patterns = world.places.map(([from]) => (/^\d+$/.test(from) ? `\\b${from}\\b` : from.replaceAll(/[.*+?^${}()|[\]\\]/g, '\\$&')));
    const places = new Map(world.places);
    return text.replaceAll(new RegExp(patterns.join('|'), 'g'), (found) => places.get(found)!);
  }

  async stop(): Promise<void> {
    await Promise.all([...this.#running.keys()].map((port) => this.#end(port)));
  }

  #spawn(line: string): { child: ChildProcess; said: () => string; ended: Promise<number | null> } {
    const cwd = /examples\//.test(line) ? root : this.#folder;
    const child = spawn('bash', ['-c', line], { cwd, env: { ...process.env, ...world.env, ...this.#env }, detached: true });
    // A command may end before it has read what it is given.
    child.stdin.on('error', () => undefined);
    let said = '';
    child.stdout.on('data', (part: Buffer) => (said += part.toString()));
    child.stderr.on('data', (part: Buffer) => (said += part.toString()));
    return { child, said: () => said, ended: new Promise((resolve) => child.once('close', resolve)) };
  }

  /** Over stdio a server ends when its input does; it is greeted first. */
  async #toTheEnd(line: string): Promise<string> {
    const { child, said, ended } = this.#spawn(line);
    const isStdio = /jexo serve/.test(line) && !/--print-/.test(line);
    const params = { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'reader', version: '1' } };
    if (isStdio) {
      child.stdin!.write(`${JSON.stringify({ jsonrpc: '2.0', id: 1, method: 'initialize', params })}\n`);
      await Promise.race([until(() => said().includes('"protocolVersion"')), ended]);
    }
    child.stdin!.end(/jexo chat/.test(line) ? 'How much sugar for 12 colonies in autumn?\n' : '');
    const timer = setTimeout(() => process.kill(-child.pid!, 'SIGKILL'), 60_000);
    const code = await ended;
    clearTimeout(timer);
    const wanted = codes.find(([pattern]) => pattern.test(line))?.[1] ?? 0;
    if (code !== wanted) throw new Error(`${line}\nended with ${code}, not ${wanted}:\n${said()}`);
    if (isStdio && !said().includes('"protocolVersion"')) throw new Error(`${line}\ndid not answer over stdio:\n${said()}`);
    return said();
  }

  async #start(line: string): Promise<string> {
    const port = /jexo inspect/.test(line)
      ? 'inspect'
      : (/--http (\d+)/.exec(line)?.[1] ?? / 127\.0\.0\.1:(\d+)/.exec(line)?.[1] ?? line.replace(/ .*/, ''));
    await this.#end(port);
    const { child, said, ended } = this.#spawn(line);
    this.#running.set(port, child);
    let code: number | null | undefined;
    void ended.then((given) => (code = given));
    // An address that is printed is one that answers, be it by the name that others use.
    const address = () =>
      said()
        .match(/https?:\/\/[\w.]+:\d+\S*/g)
        ?.at(-1);
    await until(() => code !== undefined || address() !== undefined || (/jexo work|tunnel/.test(line) && said() !== ''));
    const found = address();
    if (found === undefined && said() === '') throw new Error(`${line}\nsaid nothing for 20 seconds`);
    if (code !== undefined) throw new Error(`${line}\nended with ${code}:\n${said()}`);
    if (/jexo (?:serve|inspect)/.test(line)) await fetch(/--http/.test(line) ? `http://127.0.0.1:${port}/mcp` : found!);
    return said();
  }

  async #end(port: string): Promise<void> {
    const child = this.#running.get(port);
    if (child === undefined) return;
    this.#running.delete(port);
    const closed = new Promise((resolve) => child.once('close', resolve));
    if (child.exitCode === null && child.signalCode === null) {
      process.kill(-child.pid!, 'SIGTERM');
      await closed;
    }
  }
}

async function until(isSo: () => boolean): Promise<void> {
  const by = performance.now() + 20_000;
  while (!isSo() && performance.now() < by) await new Promise((resolve) => setTimeout(resolve, 20));
}

const run = pages.map((page) => ({ page, lines: linesOf(page).filter((line) => !notHere.some(([pattern]) => pattern.test(line))) }));

test.each(run.filter(({ lines }) => lines.length > 0))('the commands of $page do what they say', async ({ page, lines }) => {
  const wrong: string[] = [];
  const reader = new Run(page);
  try {
    for (const line of lines) {
      const first = before.find(([pattern]) => pattern.test(line))?.[1];
      if (first !== undefined) await reader.line(first);
      await reader.line(line).catch((error: unknown) => wrong.push((error as Error).message));
    }
  } finally {
    await reader.stop();
  }
  expect(wrong).toEqual([]);
});

test('what is not run is named, and nothing is named that no document has', () => {
  const all = pages.flatMap(linesOf);
  expect(run.flatMap(({ lines }) => lines).length).toBeGreaterThan(100);
  expect(notHere.filter(([pattern]) => !all.some((line) => pattern.test(line)))).toEqual([]);
});

test('the settings that docs/production.md shows are those that are printed', async () => {
  const text = readFileSync(join(root, 'docs/production.md'), 'utf8');
  const [, line, shown] = /```\n\$ (.*)\n([\s\S]*?)```/.exec(text)!;
  const printed = await new Run('docs/production.md').line(line!);
  for (const row of shown!.trim().split('\n')) expect(printed).toContain(row);
});

/** Blocks that are neither commands, nor code, nor files written here: who runs them. */
const elsewhere: readonly (readonly [page: string, language: string, index: number, where: string])[] = [
  ['docs/databases.md', 'sql', 1, 'test/sources/database/tables.test.ts'],
  ['docs/databases.md', 'sql', 2, 'test/support/databases.ts'],
  ['docs/production.md', 'nginx', 0, 'test/transports/nginx.test.ts'],
];
test('every block of every document is run, read or checked by a test', () => {
  const left: string[] = [];
  for (const page of pages) {
    const seen = new Map<string, number>();
    for (const [, language] of readFileSync(join(root, page), 'utf8').matchAll(/^```(\w+)\n[\s\S]*?^```/gm)) {
      const index = seen.get(language!) ?? 0;
      seen.set(language!, index + 1);
      const isWritten = written[page]?.some(([, of, blocks]) => of === language && blocks.includes(index)) === true;
      const isElsewhere = elsewhere.some((each) => each[0] === page && each[1] === language && each[2] === index);
      if (!['sh', 'ts', 'js'].includes(language!) && !isWritten && !isElsewhere) left.push(`${page}: ${language!} ${index}`);
    }
  }
  expect(left).toEqual([]);
});

import { spawnSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { parse } from 'yaml';
import { defineServer, wrapFolder } from '../../src/index.js';
import { commands } from '../../src/cli/commands/index.js';
import { jexo } from '../support/command-line.js';
import { connect } from '../support/connect.js';
import { root } from './demo-world.js';

const pages = [
  'README.md',
  'CONTRIBUTING.md',
  'SECURITY.md',
  'ARCHITECTURE.md',
  ...readdirSync(join(root, 'docs'))
    .filter((file) => file.endsWith('.md'))
    .map((file) => `docs/${file}`),
];
const textOf = (page: string) => readFileSync(join(root, page), 'utf8');

/** As the pages of hosting services make them of headings. */
const anchorOf = (heading: string) =>
  heading
    .trim()
    .toLowerCase()
    .replaceAll(/[`*[\]()]/g, '')
    .replaceAll(/[^\p{L}\p{N}\s_-]/gu, '')
    .replaceAll(/\s/g, '-');

test('every link of every document leads somewhere', () => {
  const broken: string[] = [];
  for (const page of pages) {
    const text = textOf(page).replaceAll(/```[\s\S]*?```/g, '');
    for (const [, target] of text.matchAll(/\]\(([^)\s]+)\)/g)) {
      if (/^[a-z]+:/.test(target!)) continue;
      const [path = '', anchor] = target!.split('#');
      const file = path === '' ? join(root, page) : join(root, dirname(page), path);
      if (!existsSync(file)) broken.push(`${page}: ${target!}`);
      else if (anchor !== undefined && file.endsWith('.md')) {
        const anchors = [...readFileSync(file, 'utf8').matchAll(/^#+\s+(.*)$/gm)].map(([, heading]) => anchorOf(heading!));
        if (!anchors.includes(anchor)) broken.push(`${page}: ${target!}`);
      }
    }
  }
  expect(broken).toEqual([]);
});

test('no document names a command or an option that does not exist', async () => {
  const wrong: string[] = [];
  const helps = new Map<string, string>();
  const help = async (name: string) => helps.set(name, (await jexo([name, '--help'], { env: { COLUMNS: '300' } })).stdout);
  await Promise.all(Object.keys(commands).map(help));
  const all = [...helps.values()].join('\n');
  for (const page of pages)
    for (const [, line] of textOf(page).matchAll(/(?:^|[\s`(])(?:npx )?jexo ([a-z][^`\n]*)/gm)) {
      const [command, ...rest] = line!
        .split(/\s+-- |\s+#|\s+\|\|?\s|\s+&&\s|\s+>\s/)[0]!
        .trim()
        .split(/\s+/);
      if (!helps.has(command!)) {
        // Prose says “jexo is”; a command is followed by something that commands take.
        if (/^(?:[a-z-]+)$/.test(command!) && rest.some((word) => word.startsWith('--'))) wrong.push(`${page}: jexo ${line!}`);
        continue;
      }
      for (const word of rest) {
        const [, option] = /^(--[a-z][a-z-]*)/.exec(word) ?? [];
        // Kinds of targets bring options that the help of a command shows with all of them.
        if (
          option !== undefined &&
          option !== '--' &&
          !new RegExp(`${option}\\b`).test(helps.get(command!)!) &&
          !new RegExp(`${option}\\b`).test(all)
        )
          wrong.push(`${page}: jexo ${command!} ${option}`);
      }
    }
  expect(wrong).toEqual([]);
}, 60_000);

test('the reference is what the code says', () => {
  const { status, stderr } = spawnSync(process.execPath, ['scripts/reference.mjs', '--check'], { cwd: root, encoding: 'utf8' });
  expect([status, stderr]).toEqual([0, '']);
});

test('who asks in their own words finds the page among the first three: 95 of 100 times', async () => {
  const { questions } = parse(textOf('docs.questions.yaml')) as { questions: { ask: string; pages: string[] }[] };
  expect(questions.length).toBeGreaterThanOrEqual(20);
  const client = await connect(
    defineServer({ name: 'docs', version: '1.0.0', offers: [wrapFolder(join(root, 'docs'), { search: true })] }),
  );
  const missed: string[] = [];
  for (const { ask, pages: wanted } of questions) {
    const { structuredContent } = await client.call('search_docs', { words: ask, limit: 3 });
    const hits = (structuredContent as { hits: { uri: string }[] }).hits.map(({ uri }) => uri.replace(/^docs:\/\//, '').replace(/#.*/, ''));
    if (!hits.some((hit) => wanted.includes(hit))) missed.push(`${ask} ${hits.join()}`);
  }
  await client.close();
  expect([1 - missed.length / questions.length >= 0.95, missed.length > 1 ? missed : []]).toEqual([true, []]);
});

/** Every file in which a person may read of Jexo: documents, the library and the page. */
const sources = ['packages/jexo/src', 'apps/inspector/src']
  .flatMap((folder) => readdirSync(join(root, folder), { recursive: true, encoding: 'utf8' }).map((file) => `${folder}/${file}`))
  .filter((file) => /\.tsx?$/.test(file));

test('no message, help text, comment or document names an error code, a variable or a command that does not exist', async () => {
  const [reference, catalogue] = [textOf('docs/reference.md'), textOf('packages/jexo/src/errors.ts')];
  const { stdout } = await jexo(['--help'], { env: { COLUMNS: '300' } });
  const names = [...stdout.matchAll(/^ {2}([a-z-]+) /gm)].map(([, name]) => name);
  const known = new Set([
    ...(reference + catalogue).match(/JEXO_[A-Z_]+/g)!,
    // Faults of Jexo itself, what the build defines, and what workers hand to each other.
    ...['JEXO_INTERNAL', 'JEXO_VERSION', 'JEXO_WORKER_NUMBER', 'JEXO_WORKER_SOCKETS', 'JEXO_WORKER_PORT'],
  ]);
  const wrong = [...pages, ...sources].flatMap((file) => {
    const text = textOf(file);
    const codes = (text.match(/\bJEXO_[A-Z_]+\b/g) ?? []).filter((code) => !known.has(code));
    // A command is followed by something that commands take.
    const commands = [...text.matchAll(/\bjexo ([a-z-]+) (?=--[a-z]|<|\$\{|[\w./-]+\.(?:ts|yaml|json|mjs|sqlite)\b)/g)].flatMap(
      ([, name]) => name!,
    );
    return [...codes, ...commands.filter((name) => !names.includes(name)).map((name) => `jexo ${name}`)].map((each) => `${file}: ${each}`);
  });
  expect(wrong).toEqual([]);
});

test('every error code is raised somewhere', () => {
  const all = sources
    .filter((file) => !file.endsWith('/errors.ts'))
    .map(textOf)
    .join('\n');
  const [, body] = /catalogue = \{([\s\S]*?)\n\}/.exec(textOf('packages/jexo/src/errors.ts'))!;
  const codes = [...body!.matchAll(/^ {2}(JEXO_[A-Z_]+):/gm)].map(([, code]) => code!);
  expect(codes.length).toBeGreaterThan(50);
  expect(codes.filter((code) => !new RegExp(`['"]${code}['"]`).test(all))).toEqual([]);
});

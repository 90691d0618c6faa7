// Writes docs/conformance.md: every line of docs/checklist.md with the tests that prove it, by the tags in their names, or
// the reason why there is none. `--check` writes nothing and fails when the page is out of date or a line has neither.
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');

/** Lines without a test of their own, and why. */
const reasons = {
  views: 'Brought by interactive views and the registry manifest, which are not built yet',
  written: 'Written down in [docs/transports.md](transports.md)',
  host: 'A duty of the program that faces the person; the library hands it what it needs',
  author: 'A duty of the server’s author; nothing in the library stands in its way',
  icons: 'Nothing of Jexo draws icons yet; where they are defined, other schemes than https: and data: are refused',
};
const without = {
  views: ids(245, 259),
  written: [id(209)],
  host: [45, 72, 79, 84, 85, 86, 87, 101, 105, 106, 107, 114, 118, 119, 135, 136, 139, 142, 143, 144, 145, 242, 243].map(id),
  author: [95, 134, 146].map(id),
  icons: [60, 61, 63, 64].map(id),
};

function id(number) {
  return `MCP-${String(number).padStart(3, '0')}`;
}
function ids(from, to) {
  return Array.from({ length: to - from + 1 }, (_, index) => id(from + index));
}

function testFiles(folder) {
  return readdirSync(folder, { withFileTypes: true }).flatMap((entry) => {
    const path = join(folder, entry.name);
    return entry.isDirectory() ? testFiles(path) : entry.name.endsWith('.test.ts') ? [path] : [];
  });
}

/** Test names by the tags they carry. */
function proofs() {
  const found = new Map();
  for (const file of testFiles(join(root, 'packages/jexo/test')).sort()) {
    const text = readFileSync(file, 'utf8');
    for (const [, quote, name] of text.matchAll(/(['"`])((?:\[MCP-\d{3}\] )+(?:(?!\1)[^\\]|\\.)*)\1/g)) {
      const tags = name.match(/MCP-\d{3}/g);
      const words = name
        .replaceAll(/\[MCP-\d{3}\] /g, '')
        .replaceAll(/^%[sj]: /g, '')
        .replaceAll(quote === "'" ? "\\'" : '\\"', quote);
      const place = relative(join(root, 'packages/jexo/test'), file).replaceAll('\\', '/');
      for (const tag of tags) found.set(tag, [...(found.get(tag) ?? []), { words, place }]);
    }
  }
  return found;
}

function page() {
  const mutants = /^\d+ of \d+ mutants.*$/m.exec(readFileSync(join(root, 'docs/mutants.md'), 'utf8'))[0];
  const proven = proofs();
  const reasonOf = new Map(Object.entries(without).flatMap(([reason, list]) => list.map((each) => [each, reasons[reason]])));
  const lines = [];
  const bare = [];
  const counts = { proven: 0, reason: 0 };
  for (const line of readFileSync(join(root, 'docs/checklist.md'), 'utf8').split('\n')) {
    const heading = /^## (.*)/.exec(line);
    if (heading)
      lines.push(
        '',
        `## ${heading[1].replace(/ \(file \d\)| \(.*file.*\)/, '')}`,
        '',
        '| Id | Duty | Level | Side | Revisions | Proof |',
        '|---|---|---|---|---|---|',
      );
    const row = /^\| (MCP-\d{3}) \| (.*) \|$/.exec(line);
    if (!row) continue;
    const [, tag, rest] = row;
    const tests = proven.get(tag);
    const reason = reasonOf.get(tag);
    if (tests) counts.proven++;
    else if (reason) counts.reason++;
    else bare.push(tag);
    const proof = tests
      ? tests.map(({ words, place }) => `${words.replaceAll('|', '\\|')} ([${place}](../packages/jexo/test/${place}))`).join('<br>')
      : `*${reason ?? 'nothing'}.*`;
    lines.push(`| ${tag} | ${rest} | ${proof} |`);
  }
  const head = [
    '# Conformance',
    '',
    'Every duty of the protocol that [the checklist](checklist.md) names, with the tests that prove it. This page is written by',
    '`npm run conformance` from the tags in the names of the tests, and a test fails when it is out of date.',
    '',
    `${counts.proven} lines are proven by tests; ${counts.reason} have a reason instead. R1 to R4 are the revisions 2024-11-05, 2025-03-26, 2025-06-18 and 2025-11-25.`,
    '',
    'Beside these, every message that a connection of a test sends or receives (`test/support/connect.ts`) is checked against the JSON',
    'Schema of its revision, and all of the reference samples are judged by our own grammar.',
    '',
    `For duties that were once called proven and were not, the line that obeys is broken on purpose: ${mutants} [Which](mutants.md).`,
  ];
  return { text: `${[...head, ...lines].join('\n')}\n`, bare };
}

const { text, bare } = page();
const target = join(root, 'docs/conformance.md');
if (bare.length > 0) {
  console.error(`These lines have neither a test nor a reason: ${bare.join(', ')}`);
  process.exitCode = 1;
} else if (process.argv.includes('--check')) {
  if (readFileSync(target, 'utf8') !== text) {
    console.error('docs/conformance.md is out of date. Run: npm run conformance');
    process.exitCode = 1;
  }
} else writeFileSync(target, text);

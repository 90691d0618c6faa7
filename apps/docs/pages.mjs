// Makes the pages of the site: docs/*.md as they are, and a page for each name that the package exports, from its doc comments.
import { cpSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { spawnSync } from 'node:child_process';
import { Marked } from 'marked';

const here = dirname(fileURLToPath(import.meta.url));
const root = join(here, '../..');
export const docs = join(root, 'docs');
const api = join(here, '.api');
/** Where the pages are written. Vite serves them from here, and builds them. */
export const pagesFolder = join(here, '.pages');

const escaped = (text) => text.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('"', '&quot;');
/** As hosting services make them of headings, so that links work in both places. */
const anchorOf = (text) =>
  text
    .trim()
    .toLowerCase()
    .replaceAll(/<[^>]+>|&[a-z]+;|[`*[\]()]/g, '')
    .replaceAll(/[^\p{L}\p{N}\s_-]/gu, '')
    .replaceAll(/\s/g, '-');
/** As search names sections. */
const sectionOf = (text) =>
  text
    .toLowerCase()
    .replaceAll(/[^\p{L}\p{N}]+/gu, '-')
    .replaceAll(/^-|-$/g, '');
const titleOf = (text) => /^# (.+)$/m.exec(text)?.[1].replaceAll(/[`\\]/g, '') ?? '';
const htmlName = (file) => (file === 'README.md' ? 'index.html' : `${file.slice(0, -3)}.html`);

const marked = new Marked({
  renderer: {
    heading({ tokens, depth, text }) {
      return `<h${depth} id="${anchorOf(text)}"><span id="${sectionOf(text)}"></span>${this.parser.parseInline(tokens)}</h${depth}>\n`;
    },
    // Pictures stay where they are: links lead to them too.
    image({ href, text }) {
      return `<img vite-ignore src="${escaped(href)}" alt="${escaped(text)}">`;
    },
    link({ href, tokens }) {
      // Pages link to each other; what lies outside of them is in the repository.
      const [, name, anchor = ''] = /^([\w.-]+)\.md(#.*)?$/.exec(href) ?? [];
      const to = name === undefined ? href : `${htmlName(`${name}.md`)}${anchor}`;
      return `<a href="${escaped(to)}">${this.parser.parseInline(tokens)}</a>`;
    },
  },
});

/** The menu: file names, and what they are called where there is little room. */
const groups = {
  Wrap: {
    functions: 'Functions',
    rest: 'REST APIs',
    graphql: 'GraphQL',
    databases: 'Databases',
    folders: 'Folders',
    'live-values': 'Live values',
    'other-servers': 'Other servers',
    'plan-files': 'Plan files',
    views: 'Views',
  },
  'Try and test': { inspector: 'Inspector', check: 'Check', sheets: 'Sheets', testing: 'Tests' },
  Connect: { hosts: 'Host applications', conversations: 'Conversations', transports: 'Transports' },
  Run: { deploy: 'Deploy', production: 'Production', 'sign-in': 'Sign-in', scale: 'Several machines', security: 'Security' },
  'Look up': {
    troubleshooting: 'Troubleshooting',
    reference: 'Reference',
    terms: 'Terms',
    versions: 'Versions',
    extending: 'Extending',
    'api/index': 'API',
  },
  Proof: { conformance: 'Conformance', checklist: 'Checklist', mutants: 'Mutants', benchmarks: 'Benchmarks' },
};

/** @param up how the page reaches the top of the site */
function shell({ title, current, body, up = '' }) {
  const link = (href, text) => `<a href="${up}${href}"${href === current ? ' aria-current="page"' : ''}>${escaped(text)}</a>`;
  const menu = Object.entries(groups)
    .map(([group, names]) => {
      const links = Object.entries(names).map(([name, label]) => link(`${name}.html`, label));
      return `<h2>${group}</h2>${links.join('')}`;
    })
    .join('');
  return `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>${escaped(title)} · Jexo</title>
<link rel="icon" href="data:,"><link rel="stylesheet" href="${up}site.css"><script type="module" src="${up}search.js"></script></head>
<body data-up="${up}"><a class="skip" href="#content">Skip to the page</a><header><a href="${up}index.html">Jexo</a><form role="search" action="${up}search.html"><input type="search" name="words" aria-label="Search the documentation" placeholder="Search  ( / )" autocomplete="off"></form></header>
<nav aria-label="Pages">${menu}</nav><main id="content">${body}</main></body></html>
`;
}

/** @throws Error when a page is in no group of the menu */
function guidePages() {
  const files = readdirSync(docs).filter((file) => file.endsWith('.md'));
  const named = new Set(['README', ...Object.values(groups).flatMap((names) => Object.keys(names))]);
  const others = files.filter((file) => !named.has(file.slice(0, -3)));
  if (others.length > 0) throw new Error(`These pages are in no group of the menu: ${others.join(', ')}. Name them in apps/docs/pages.mjs`);
  return files;
}

/** What search knows of a document: its path, and its text. */
const documents = [];

function writePage(file, text, up = '') {
  const name = `${up === '' ? '' : 'api/'}${htmlName(file)}`;
  writeFileSync(join(pagesFolder, name), shell({ title: titleOf(text), current: name, body: marked.parse(text), up }));
  documents.push({ path: name, text });
}

/** Newest change of a tree's files, so that the API is read again only when it has changed. */
function newest(folder) {
  let last = 0;
  for (const entry of readdirSync(folder, { recursive: true, withFileTypes: true }))
    if (entry.isFile()) last = Math.max(last, statSync(join(entry.parentPath, entry.name)).mtimeMs);
  return last;
}

/** @throws Error when a doc comment names what is not there, or an exported type leads to one that is not */
function readApi() {
  const stamp = join(api, '.stamp');
  const state = String(Math.max(newest(join(root, 'packages/jexo/src')), statSync(join(here, 'typedoc.json')).mtimeMs));
  if (existsSync(stamp) && readFileSync(stamp, 'utf8') === state) return;
  rmSync(api, { recursive: true, force: true });
  const typedoc = join(root, 'node_modules/typedoc/bin/typedoc');
  const done = spawnSync(process.execPath, [typedoc], { cwd: here, encoding: 'utf8' });
  if (done.status !== 0) throw new Error(`The API cannot be read:\n${done.stdout}${done.stderr}`);
  writeFileSync(stamp, state);
}

const kinds = { Function: 'Functions', Class: 'Classes', Interface: 'Interfaces', TypeAlias: 'Types', Variable: 'Values' };

const dist = join(root, 'packages/jexo/dist');
const schemaFiles = () => readdirSync(dist).filter((file) => file.endsWith('.schema.json'));

/** The first page of the API: what each entry of the package exports, with the first sentence on it. */
function apiIndex() {
  const entries = new Map();
  for (const file of readdirSync(api).sort()) {
    const [, entry, kind, name] = /^(jexo[\w.]*?)\.(Function|Class|Interface|TypeAlias|Variable)\.(\w+)\.md$/.exec(file) ?? [];
    if (name === undefined) continue;
    const text = readFileSync(join(api, file), 'utf8');
    // What is said first, behind the signature where there is one.
    const [said = ''] = text
      .replace(/^# .*\n+/, '')
      .replace(/^## Call Signature\n+/, '')
      .replace(/^(?:> .*|```[\s\S]*?```)\n+/, '')
      .split(/\n\n(?=[#|`])|\n\n/);
    const sentence = /^[\s\S]*?\.(?=\s|$)/.exec(said)?.[0] ?? said;
    const all = entries.get(entry) ?? new Map();
    entries.set(entry, all.set(kind, [...(all.get(kind) ?? []), [file, name, sentence]]));
  }
  const parts = [...entries].map(([entry, all]) => {
    const tables = Object.keys(kinds)
      .filter((kind) => all.has(kind))
      .map((kind) => {
        const rows = all
          .get(kind)
          .map(([file, name, said]) => `| [\`${name}\`](${file}) | ${said.replaceAll('|', '\\|').replaceAll('\n', ' ')} |`);
        return `### ${kinds[kind]} of \`${entry.replaceAll('.', '/')}\`\n\n| | |\n| --- | --- |\n${rows.join('\n')}`;
      });
    return `## ${entry.replaceAll('.', '/')}\n\n${tables.join('\n\n')}`;
  });
  const schemas = schemaFiles().map((file) => `| [${file}](../schemas/${file}) | \`jexo/${file}\` |`);
  const files = `## JSON Schemas of files\n\n| Schema | In the package |\n| --- | --- |\n${schemas.join('\n')}`;
  return `# API\n\nEvery name that the package exports, from its doc comments. Import from the entry that the heading names.\n\n${[...parts, files].join('\n\n')}\n`;
}

/** Names without what their kind is called: “wrapRest”, not “Function: wrapRest()”. */
const plainTitle = (text) =>
  text.replace(/^# (?:Function|Class|Interface|Type Alias|Variable): (.*)$/m, (_, name) => `# ${name.replace(/\(\)$/, '')}`);

/** Writes all pages, and what search reads. Gives how many there are. */
export function writePages() {
  documents.length = 0;
  readApi();
  mkdirSync(join(pagesFolder, 'api'), { recursive: true });
  for (const file of guidePages()) writePage(file, readFileSync(join(docs, file), 'utf8'));
  for (const file of readdirSync(api).filter((name) => /^jexo.*\.[A-Z]\w+\.\w+\.md$/.test(name)))
    writePage(file, plainTitle(readFileSync(join(api, file), 'utf8')), '../');
  const index = apiIndex();
  writeFileSync(
    join(pagesFolder, 'api/index.html'),
    shell({ title: 'API', current: 'api/index.html', body: marked.parse(index), up: '../' }),
  );
  const search =
    '<h1>Search</h1><noscript><p>Search needs JavaScript. <a href="index.html">The index</a> lists all pages.</p></noscript><div id="hits" aria-live="polite"></div>';
  writeFileSync(join(pagesFolder, 'search.html'), shell({ title: 'Search', current: 'search.html', body: search }));
  writeFileSync(join(pagesFolder, 'site.css'), readFileSync(join(here, 'src/site.css')));
  cpSync(join(docs, 'screenshots'), join(pagesFolder, 'screenshots'), { recursive: true });
  for (const file of schemaFiles()) cpSync(join(dist, file), join(pagesFolder, 'schemas', file));
  cpSync(join(docs, 'soak.svg'), join(pagesFolder, 'soak.svg'));
  return documents;
}

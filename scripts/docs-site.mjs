// `npm run docs`: the documents in a browser, with a search that is our own. `--out <folder>` writes them as a site instead.
import { createServer } from 'node:http';
import { cpSync, existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Marked } from 'marked';
import { connect, defineServer, wrapFolder } from 'jexo';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const docs = join(root, 'docs');
const pages = readdirSync(docs).filter((file) => file.endsWith('.md'));
const titleOf = (file) => /^# (.+)$/m.exec(readFileSync(join(docs, file), 'utf8'))?.[1].replaceAll('`', '') ?? file;
const escaped = (text) => text.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('"', '&quot;');
/** As hosting services make them of headings, so that links work in both places. */
const anchorOf = (text) =>
  text
    .trim()
    .toLowerCase()
    .replaceAll(/<[^>]+>|&[a-z]+;|[`*[\]()]/g, '')
    .replaceAll(/[^\p{L}\p{N}\s_-]/gu, '')
    .replaceAll(/\s/g, '-');

const sectionOf = (text) =>
  text
    .toLowerCase()
    .replaceAll(/[^\p{L}\p{N}]+/gu, '-')
    .replaceAll(/^-|-$/g, '');
/** What was found stands between asterisks; the rest of the mark-up says nothing here. */
const shownOf = (snippet) =>
  escaped(snippet)
    .replaceAll(/\*\*([^*]+)\*\*/g, '<mark>$1</mark>')
    .replaceAll(/[`|*]|&lt;!--.*?(?:--&gt;|--|$)|-{3,}/g, ' ');

const marked = new Marked({
  renderer: {
    heading({ tokens, depth, text }) {
      // Search finds sections by the names that our own folders give them.
      return `<h${depth} id="${anchorOf(text)}"><span id="${sectionOf(text)}"></span>${this.parser.parseInline(tokens)}</h${depth}>\n`;
    },
    link({ href, tokens }) {
      // Pages link to each other; what lies outside of them is in the repository.
      const own = /^([\w-]+)\.md(#.*)?$/.exec(href);
      const to = own ? `${own[1] === 'README' ? 'index' : own[1]}.html${own[2] ?? ''}` : href;
      return `<a href="${escaped(to)}">${this.parser.parseInline(tokens)}</a>`;
    },
  },
});

const style = `
:root { color-scheme: light dark; --paper: light-dark(#f5f8f7, #12181a); --raised: light-dark(#fff, #1a2224); --ink: light-dark(#172224, #e4ebea);
  --quiet: light-dark(#55625f, #9fadab); --line: light-dark(#d3dcda, #2e3a3c); --lake: light-dark(#0b5f73, #6ec3d4);
  font: 15px/1.6 system-ui, 'DejaVu Sans', sans-serif; color: var(--ink); background: var(--paper); }
* { box-sizing: border-box; } body { margin: 0; display: grid; grid-template-columns: 240px minmax(0, 1fr); min-height: 100vh; }
nav { padding: 24px 16px; border-right: 1px solid var(--line); position: sticky; top: 0; height: 100vh; overflow: auto; }
nav a { display: block; padding: 2px 8px; color: var(--ink); text-decoration: none; border-radius: 6px; } nav a[aria-current] { background: var(--raised); color: var(--lake); font-weight: 600; }
nav strong { display: block; padding: 0 8px 12px; font-size: 20px; } main { padding: 24px 40px 80px; max-width: 860px; } a { color: var(--lake); }
h1 { font-size: 26px; line-height: 1.3; } h2 { font-size: 19px; margin-top: 40px; } h3 { font-size: 16px; }
code, pre { font: 13px/1.5 ui-monospace, 'DejaVu Sans Mono', monospace; } pre { background: var(--raised); border: 1px solid var(--line); border-radius: 6px; padding: 12px; overflow: auto; }
:not(pre) > code { background: var(--raised); border: 1px solid var(--line); border-radius: 4px; padding: 0 4px; } table { border-collapse: collapse; display: block; overflow: auto; }
th, td { text-align: left; vertical-align: top; padding: 6px 16px 6px 0; border-bottom: 1px solid var(--line); } img { max-width: 100%; border: 1px solid var(--line); border-radius: 6px; }
input { font: inherit; width: 100%; padding: 6px 8px; border: 1px solid var(--line); border-radius: 6px; background: var(--raised); color: inherit; margin-bottom: 16px; }
.hit { margin: 16px 0; } .hit p { margin: 0; color: var(--quiet); } :focus-visible { outline: 2px solid var(--lake); outline-offset: 1px; }
@media (max-width: 720px) { body { grid-template-columns: 1fr; } nav { position: static; height: auto; border: 0; } main { padding: 0 16px 40px; } }`;

function shell(title, current, body, words = '') {
  const links = pages
    .filter((file) => file !== 'README.md')
    .map((file) => [`${file.slice(0, -3)}.html`, titleOf(file)])
    .map(([href, text]) => `<a href="${href}"${href === current ? ' aria-current="page"' : ''}>${escaped(text)}</a>`);
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>${escaped(title)} · Jexo</title><style>${style}</style></head>
<body><nav aria-label="Pages"><strong><a href="index.html">Jexo</a></strong><form action="search"><input type="search" name="words" aria-label="Search the documents" placeholder="Search" value="${escaped(words)}"></form>${links.join('')}</nav><main>${body}</main></body></html>`;
}

const page = (file) =>
  shell(
    titleOf(file),
    file === 'README.md' ? 'index.html' : `${file.slice(0, -3)}.html`,
    marked.parse(readFileSync(join(docs, file), 'utf8')),
  );
const fileOf = (name) => (name === 'index' ? 'README.md' : `${name}.md`);

const out = process.argv.indexOf('--out');
if (out > 0) {
  const folder = process.argv[out + 1];
  mkdirSync(folder, { recursive: true });
  for (const file of pages) writeFileSync(join(folder, file === 'README.md' ? 'index.html' : `${file.slice(0, -3)}.html`), page(file));
  cpSync(join(docs, 'screenshots'), join(folder, 'screenshots'), { recursive: true });
  console.log(`${pages.length} pages are in ${folder}. Search needs the served form: npm run docs`);
} else {
  const client = await connect(
    defineServer({ name: 'docs', version: '1.0.0', offers: [wrapFolder(docs, { search: true, only: ['*.md'] })] }),
  );
  const search = async (words) => {
    if (words.trim() === '') return shell('Search', '', '<h1>Search</h1><p>Type what you look for, in your own words.</p>');
    const { structuredContent, isError } = await client.call('search_docs', { words, limit: 12 });
    const hits = isError ? [] : structuredContent.hits;
    const shown = hits.map(({ uri, heading, snippet }) => {
      const [, file, anchor = ''] = /^docs:\/\/([\w-]+)\.md(#.*)?$/.exec(uri) ?? [];
      return `<div class="hit"><a href="${file === 'README' ? 'index' : file}.html${anchor}">${escaped(heading ?? uri)}</a><p>${shownOf(snippet)}</p></div>`;
    });
    return shell(words, '', `<h1>${escaped(words)}</h1>${shown.join('') || '<p>No page has these words.</p>'}`, words);
  };
  const server = createServer((request, response) => {
    const { pathname, searchParams } = new URL(request.url, 'http://localhost');
    const send = (status, text, type = 'text/html; charset=utf-8') =>
      response
        .writeHead(status, {
          'content-type': type,
          'content-security-policy': "default-src 'none'; style-src 'unsafe-inline'; img-src 'self'; form-action 'self'",
        })
        .end(text);
    const [, name] = /^\/([\w-]+)\.html$/.exec(pathname === '/' ? '/index.html' : pathname) ?? [];
    const [, picture] = /^\/screenshots\/([\w-]+\.(?:png|svg))$/.exec(pathname) ?? [];
    if (pathname === '/search')
      return search(searchParams.get('words') ?? '').then(
        (text) => send(200, text),
        (error) => send(500, shell('Search', '', `<p>${escaped(String(error.message))}</p>`)),
      );
    if (name !== undefined && existsSync(join(docs, fileOf(name)))) return send(200, page(fileOf(name)));
    if (picture !== undefined && existsSync(join(docs, 'screenshots', picture)))
      return send(200, readFileSync(join(docs, 'screenshots', picture)), 'image/png');
    return send(404, shell('Not here', '', '<h1>There is no such page</h1>'));
  });
  server.listen(Number(process.env.PORT ?? 4390), '127.0.0.1', () =>
    console.log(`The documents are at http://127.0.0.1:${server.address().port}/   (stop with Ctrl-C)`),
  );
  for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => process.exit(0));
}

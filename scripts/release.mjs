// `npm run release -- --dry-run`: publishes to a registry of its own on this machine, installs from it in an empty folder and tries what it got.
// Without --dry-run it checks the same and then publishes to the registry that npm is set up for, with a statement of where it was built.
import { spawn, spawnSync } from 'node:child_process';
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const dry = process.argv.includes('--dry-run');
const { version } = JSON.parse(readFileSync(join(root, 'packages/jexo/package.json'), 'utf8'));
const say = (text) => console.log(text);
const fail = (why) => {
  console.error(`✗ ${why}`);
  process.exit(1);
};

/** Keeps what is published to it, and gives it back; every other package is fetched where npm usually fetches. */
function localRegistry() {
  const packages = new Map();
  const upstream = spawnSync('npm', ['config', 'get', 'registry'], { encoding: 'utf8' }).stdout.trim().replace(/\/$/, '');
  const server = createServer(async (request, response) => {
    const chunks = [];
    for await (const chunk of request) chunks.push(chunk);
    const path = decodeURIComponent(request.url).replace(/\?.*/, '');
    const json = (status, value) => response.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(value));
    if (request.method === 'PUT') {
      const document = JSON.parse(Buffer.concat(chunks).toString());
      packages.set(document.name, document);
      return json(201, { ok: true });
    }
    const [, name, file] = /^\/((?:@[^/]+\/)?[^/]+)(?:\/-\/(.+))?$/.exec(path) ?? [];
    const own = packages.get(name);
    if (own === undefined) return response.writeHead(302, { location: `${upstream}${request.url}` }).end();
    if (file === undefined) return json(200, { ...own, _attachments: undefined });
    const [attachment] = Object.values(own._attachments);
    return response.writeHead(200, { 'content-type': 'application/octet-stream' }).end(Buffer.from(attachment.data, 'base64'));
  });
  return new Promise((resolve) => {
    server.listen(0, '127.0.0.1', () => resolve({ url: `http://127.0.0.1:${server.address().port}/`, close: () => server.close() }));
  });
}

/** Not at once: the registry answers in this process. */
function run(command, words, cwd, env = {}) {
  return new Promise((resolve) => {
    const child = spawn(command, words, { cwd, env: { ...process.env, ...env } });
    let out = '';
    child.stdout.on('data', (part) => (out += part));
    child.stderr.on('data', (part) => (out += part));
    child.once('close', (code) => resolve({ code, out }));
  });
}

const must = async (...words) => {
  const { code, out } = await run(...words);
  if (code !== 0) fail(`${words[0]} ${words[1].join(' ')}\n${out}`);
  return out;
};

if (!readFileSync(join(root, 'CHANGELOG.md'), 'utf8').includes(`## ${version}`)) fail(`CHANGELOG.md has nothing on ${version}.`);
await must(process.execPath, ['scripts/build.mjs', '--quiet'], root);
await must(process.execPath, ['scripts/reference.mjs', '--check'], root);

const registry = await localRegistry();
const home = mkdtempSync(join(tmpdir(), 'jexo-release-'));
writeFileSync(join(home, '.npmrc'), `registry=${registry.url}\n//${new URL(registry.url).host}/:_authToken=none\n`);
const env = {
  npm_config_userconfig: join(home, '.npmrc'),
  npm_config_registry: registry.url,
  npm_config_audit: 'false',
  npm_config_fund: 'false',
};
await must('npm', ['publish', '-w', 'packages/jexo', '--registry', registry.url], root, env);
say(`✓ jexo ${version} is published to ${registry.url}, which is on this machine`);

const folder = mkdtempSync(join(tmpdir(), 'jexo-release-'));
await must('npm', ['init', '-y'], folder, env);
await must('npm', ['install', `jexo@${version}`], folder, env);
const installed = JSON.parse(readFileSync(join(folder, 'node_modules/jexo/package.json'), 'utf8')).version;
if (installed !== version) fail(`${installed} was installed, and not ${version}.`);
writeFileSync(join(folder, 'hives.ts'), '/** Doubles. */\nexport function twice(kg: number): number {\n  return kg * 2;\n}\n');
const answer = await must('npx', ['jexo', 'call', 'hives.ts', 'twice', 'kg=21'], folder, env);
if (!answer.includes('42')) fail(`The installed package answers with:\n${answer}`);
writeFileSync(
  join(folder, 'all.mjs'),
  "for (const part of ['', '/client', '/testing', '/view', '/view/host', '/vite']) if (Object.keys(await import('jexo' + part)).length === 0) throw new Error(part);\n",
);
await must(process.execPath, ['all.mjs'], folder, env);
say(`✓ it is installed from there in an empty folder, answers, and every entry can be imported`);
registry.close();
if (dry) say(`✓ ready. Nothing has left this machine. Publish with: npm run release`);
else {
  await must('npm', ['publish', '-w', 'packages/jexo', '--provenance', '--access', 'public'], root);
  say(`✓ jexo ${version} is published`);
}

// What `npm install jexo` brings into an empty folder: packages and bytes.
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, readdirSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { gzipSync } from 'node:zlib';

export function size() {
  const folder = mkdtempSync(join(tmpdir(), 'jexo-size-'));
  const quiet = { cwd: folder, stdio: 'pipe', encoding: 'utf8' };
  const [{ filename }] = JSON.parse(
    execFileSync('npm', ['pack', '--json', '--pack-destination', folder], {
      ...quiet,
      cwd: fileURLToPath(new URL('../packages/jexo', import.meta.url)),
    }),
  );
  writeFileSync(join(folder, 'package.json'), '{"private":true}');
  execFileSync('npm', ['install', '--no-audit', '--no-fund', join(folder, filename)], quiet);
  const lock = JSON.parse(execFileSync('npm', ['ls', '--all', '--json'], quiet));
  const names = new Set();
  const walk = (node) => {
    for (const [name, child] of Object.entries(node.dependencies ?? {})) {
      if (child.version) names.add(`${name}@${child.version}`);
      walk(child);
    }
  };
  walk(lock);
  const modules = join(folder, 'node_modules');
  const bytes = readdirSync(modules, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => statSync(join(entry.parentPath ?? entry.path, entry.name)))
    // One file under two names, as the bundler's binary may be, takes its room once.
    .filter((found, index, all) => all.findIndex((other) => other.ino === found.ino) === index)
    .reduce((sum, found) => sum + found.size, 0);
  const client = gzipSync(readFileSync(join(modules, 'jexo/dist/client.mjs')), { level: 9 }).length;
  return { packages: names.size, megabytes: bytes / 1e6, clientKb: client / 1000, folder };
}

if (process.argv[1] === fileURLToPath(import.meta.url)) console.log(size());

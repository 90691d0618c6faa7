// From spawn to the answer to `initialize` for a packed file, less what an empty Node costs.
import { execFileSync, spawn, spawnSync } from 'node:child_process';
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { inTurn } from './measure.mjs';

const here = (path) => fileURLToPath(new URL(path, import.meta.url));
const hello = `${JSON.stringify({ jsonrpc: '2.0', id: 1, method: 'initialize', params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'bench', version: '1' } } })}\n`;

export async function start({ rounds = 31 } = {}) {
  const out = mkdtempSync(join(tmpdir(), 'jexo-bench-'));
  execFileSync(process.execPath, [here('../packages/jexo/dist/cli.mjs'), 'pack', here('../examples/cooperative/hives.ts'), '--out', out], {
    stdio: 'pipe',
  });
  const candidates = {
    node: () => {
      const from = performance.now();
      spawnSync(process.execPath, ['-e', '0']);
      return performance.now() - from;
    },
    packed: () =>
      new Promise((resolve) => {
        const from = performance.now();
        const child = spawn(process.execPath, [join(out, 'hives.mjs')], { stdio: ['pipe', 'pipe', 'ignore'] });
        child.stdin.write(hello);
        child.stdout.once('data', () => {
          resolve(performance.now() - from);
          child.kill();
        });
      }),
  };
  const found = await inTurn(candidates, rounds, (candidate) => candidate());
  return { ...found, own: found.packed - found.node };
}

if (process.argv[1] === fileURLToPath(import.meta.url)) console.log(await start());

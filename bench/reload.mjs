// From the save of a module to the new tool being listed at a connected client, for the demo's functions.
import { appendFileSync, copyFileSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect } from 'jexo';
import { median, startServer, untilListening } from './measure.mjs';

const here = (path) => fileURLToPath(new URL(path, import.meta.url));

export async function reload({ rounds = 7, port = 4731 } = {}) {
  const folder = mkdtempSync(join(tmpdir(), 'jexo-reload-'));
  const file = join(folder, 'hives.ts');
  copyFileSync(here('../examples/cooperative/hives.ts'), file);
  const server = startServer([here('../packages/jexo/dist/cli.mjs'), 'serve', file, '--http', String(port), '--watch'], {
    stdio: ['ignore', 'ignore', 'ignore'],
  });
  try {
    await untilListening(port);
    let changed = () => {};
    const client = await connect(`http://127.0.0.1:${port}/mcp`, { onToolsChanged: () => changed() });
    await client.tools();
    const times = [];
    for (let round = 0; round <= rounds; round++) {
      const told = new Promise((resolve) => (changed = resolve));
      const start = performance.now();
      appendFileSync(file, `\n/** Round ${round}. */\nexport function round${round}(n: number): number { return n }\n`);
      await told;
      const tools = await client.tools();
      if (!tools.some(({ name }) => name === `round_${round}`)) throw new Error('The new tool is not listed.');
      if (round > 0) times.push(performance.now() - start); // the first one warms up
    }
    await client.close();
    return { ms: median(times), slowest: Math.max(...times) };
  } finally {
    server.kill();
    rmSync(folder, { recursive: true });
  }
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const { ms, slowest } = await reload();
  console.log(`From save to listed: ${ms.toFixed(0)} ms; the slowest of all ${slowest.toFixed(0)} ms.`);
}

import { cpSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { cli, cooperative, freshFolder, hives, run } from '../support/command-line.js';

/** What publishes, or needs an engine or a cluster. The artefacts they take are run by the tests of the forms. */
const notHere = /^(?:npm publish|docker|kubectl)\b/;

test('every command of docs/deploy.md works as it stands there, in a folder with the cooperative’s files', async () => {
  const text = readFileSync(fileURLToPath(new URL('../../../../docs/deploy.md', import.meta.url)), 'utf8');
  const commands = [...text.matchAll(/```sh\n([\s\S]*?)```/g)]
    .flatMap(([, block]) => block!.trim().split('\n'))
    .filter((line) => !notHere.test(line));
  expect(commands.length).toBeGreaterThan(12);
  const folder = freshFolder('deploy');
  cpSync(hives, join(folder, 'hives.ts'));
  cpSync(join(cooperative, 'handbook'), join(folder, 'handbook'), { recursive: true });
  const script = `jexo() { ${process.execPath} ${cli} "$@"; }; `;
  for (const command of commands) {
    const { code, stdout, stderr } = await run('bash', ['-c', script + command], { cwd: folder });
    expect([command, code, code === 0 ? '' : stdout + stderr]).toEqual([command, 0, '']);
  }
}, 240_000);

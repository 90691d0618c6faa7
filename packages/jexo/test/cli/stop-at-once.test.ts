import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { cli, freshFolder, hives, jexo } from '../support/command-line.js';

/** Stops a command in the moment it says that it runs: on its first word. */
async function stopOnFirstWord(args: readonly string[], isReady: RegExp): Promise<number | null> {
  const child = spawn(process.execPath, args, { env: { ...process.env, NO_COLOR: '1', JEXO_CACHE: freshFolder('at-once') } });
  let said = '';
  let isStopped = false;
  const hear = (part: Buffer) => {
    said += part.toString();
    if (isStopped || !isReady.test(said)) return;
    isStopped = true;
    child.kill('SIGTERM');
  };
  child.stdout.on('data', hear);
  child.stderr.on('data', hear);
  return new Promise((resolve) => child.once('close', resolve));
}

test.each([
  ['serve over stdio', ['serve', hives], /is served/],
  ['serve over HTTP', ['serve', hives, '--http', '0'], /is served/],
  ['inspect', ['inspect', hives], /Connected to/],
] as const)('%s ends well when it is stopped as soon as it says that it runs', async (_name, args, isReady) => {
  for (let turn = 0; turn < 3; turn++) expect(await stopOnFirstWord([cli, ...args], isReady)).toBe(0);
});

test('so does a packed server', async () => {
  const out = freshFolder('at-once-packed');
  expect((await jexo(['pack', hives, '--out', out, '--replace'])).code).toBe(0);
  for (let turn = 0; turn < 3; turn++) expect(await stopOnFirstWord([join(out, 'hives.mjs'), '--http', '0'], /is served/)).toBe(0);
});

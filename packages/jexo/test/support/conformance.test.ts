import { fileURLToPath } from 'node:url';
import { run } from './command-line.js';

test('the conformance page says what the tests prove, and every line has a proof or a reason', async () => {
  const script = fileURLToPath(new URL('../../../../scripts/conformance.mjs', import.meta.url));
  expect(await run(process.execPath, [script, '--check'])).toEqual({ code: 0, stdout: '', stderr: '' });
});

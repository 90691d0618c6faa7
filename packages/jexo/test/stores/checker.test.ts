import { fileURLToPath } from 'node:url';
import { withNginx } from '../support/nginx.js';
import { run } from '../support/command-line.js';

const checker = fileURLToPath(new URL('../../../../bench/checker.mjs', import.meta.url));

withNginx(
  'three processes under load that are killed, over a Redis that hangs for seconds, lose no answer, no event and no task',
  async () => {
    const { code, stdout, stderr } = await run(process.execPath, [checker, '20', '--all', '--say', '--kinds=kill,hold']);
    // What it did stands in stderr, for whoever has to find out why.
    expect([code, stdout, code === 0 ? '' : stderr]).toEqual([0, expect.stringContaining('Nothing was wrong.'), '']);
  },
  200_000,
);

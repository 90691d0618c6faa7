import { fileURLToPath } from 'node:url';
import { ESLint } from 'eslint';

const root = fileURLToPath(new URL('../../../../', import.meta.url));

test.each([
  ['protocol', "import '../engine/peer.js';", 'protocol may not import engine'],
  ['engine', "import 'node:fs';", 'runs in browsers too'],
  ['offers', "export * from '../transports/memory.js';", 'offers may not import transports'],
  ['inspect', "import { connectUrl } from '../client/connect-url.js';\nvoid connectUrl;", 'runs in browsers too'],
  ['transports', "void import('../client/connect-link.js');", 'transports may not import client'],
  ['client', "import '../targets/connect.js';", 'client may not import targets'],
  ['offers', "import '../own-package.js';", 'runs in browsers too'],
  ['bridge', "import '../client/connect-url.js';", undefined],
  ['cli', "import '../engine/peer.js';", undefined],
])('a wall of %s holds: %s', async (room, code, words) => {
  const eslint = new ESLint({ cwd: root });
  const [result] = await eslint.lintText(`${code}\n`, { filePath: `${root}packages/jexo/src/${room}/probe.ts` });
  const found = result!.messages.filter(({ ruleId }) => ruleId === 'house/walls').map(({ message }) => message);
  expect(found).toEqual(words === undefined ? [] : [expect.stringContaining(words)]);
});

import {
  connect,
  connectAll,
  nodeHandler,
  oauth,
  openTarget,
  redis,
  serveHttp,
  wrapFolder,
  wrapServer,
  defineServer,
} from '../../src/index.js';

/** As JavaScript calls it: nothing has checked the types. */
const any = (value: unknown) => value as never;
const refusals: readonly (readonly [name: string, does: () => unknown, code: string, says: string])[] = [
  ['connect(undefined)', () => connect(any(undefined)), 'JEXO_TARGET_UNKNOWN', 'undefined was given'],
  ['connect(null)', () => connect(any(null)), 'JEXO_TARGET_UNKNOWN', 'null was given'],
  ['connect({})', () => connect(any({})), 'JEXO_TARGET_UNKNOWN', 'an object was given'],
  ['connect([5])', () => connect(any([5])), 'JEXO_TARGET_UNKNOWN', 'a list was given'],
  ['openTarget(undefined)', () => openTarget(any(undefined)), 'JEXO_TARGET_UNKNOWN', 'undefined was given'],
  ['connectAll(undefined)', () => connectAll(any(undefined)), 'JEXO_TARGET_UNKNOWN', 'undefined was given'],
  ['serveHttp(undefined)', () => serveHttp(any(undefined)), 'JEXO_DEFINITION', 'undefined was given'],
  ['serveHttp of a promise', () => serveHttp(any(Promise.resolve())), 'JEXO_DEFINITION', 'a promise was given'],
  ['nodeHandler of a module', () => nodeHandler(any({ mixSyrup: () => 1 })), 'JEXO_DEFINITION', 'an object was given'],
  ['wrapFolder(undefined)', () => wrapFolder(any(undefined)), 'JEXO_DEFINITION', 'undefined was given'],
  ['wrapFolder("")', () => wrapFolder(''), 'JEXO_DEFINITION', 'an empty text was given'],
  ['redis(undefined)', () => redis(any(undefined)), 'JEXO_USAGE', 'undefined was given'],
  ['oauth without an issuer', () => oauth({ issuer: any(undefined), resource: 'https://a.example/mcp' }), 'JEXO_SIGN_IN', 'needs issuer'],
  [
    'oauth without a resource',
    () => oauth({ issuer: 'https://login.example', resource: any(undefined) }),
    'JEXO_SIGN_IN',
    'needs resource',
  ],
];

test.each(refusals)('%s is refused in words, with a code', async (_name, does, code, says) => {
  const error: unknown = await (async () => does())().then(
    () => undefined,
    (thrown: unknown) => thrown,
  );
  expect(error).toMatchObject({ code, message: expect.stringContaining(says) });
});

test('a server that is wrapped and is none is said when it is read', async () => {
  const server = defineServer({ name: 'a', version: '1.0.0', offers: [wrapServer(any(undefined), { required: true })] });
  await expect(server.ready()).rejects.toMatchObject({ message: expect.stringContaining('undefined was given') });
});

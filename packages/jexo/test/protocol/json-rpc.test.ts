import fc from 'fast-check';
import { encode, RawJson, readEnvelope, type JsonRpcMessage } from '../../src/protocol/json-rpc.js';

const id = fc.oneof(fc.string(), fc.integer());

test('each kind of message is told by its members', () => {
  expect(readEnvelope({ jsonrpc: '2.0', id: 1, method: 'ping' }).kind).toBe('request');
  expect(readEnvelope({ jsonrpc: '2.0', id: '', method: 'ping' }).kind).toBe('request');
  expect(readEnvelope({ jsonrpc: '2.0', method: 'notifications/initialized' }).kind).toBe('notification');
  expect(readEnvelope({ jsonrpc: '2.0', id: 1, result: {} }).kind).toBe('result');
  expect(readEnvelope({ jsonrpc: '2.0', id: null, error: { code: 1, message: 'no' } }).kind).toBe('error');
  expect(readEnvelope({ jsonrpc: '2.0', error: { code: 1, message: 'no' } }).kind).toBe('error');
});

test.each([
  [null, 'object'],
  [[], 'object'],
  ['text', 'object'],
  [{ id: 1, method: 'ping' }, 'jsonrpc'],
  [{ jsonrpc: '2.0', id: null, method: 'ping' }, 'id'],
  [{ jsonrpc: '2.0', id: 1.5, method: 'ping' }, 'id'],
  [{ jsonrpc: '2.0', id: 1, method: 4 }, 'method'],
  [{ jsonrpc: '2.0', id: 1, method: 'ping', params: [] }, 'params'],
  [{ jsonrpc: '2.0', id: 1, result: {}, error: { code: 1, message: '' } }, 'not both'],
  [{ jsonrpc: '2.0', id: 1, result: [] }, 'result'],
  [{ jsonrpc: '2.0', id: 1, error: { code: 1.5, message: '' } }, 'error'],
  [{ jsonrpc: '2.0', id: 1 }, 'needs'],
])('%j is refused with the reason', (value, word) => {
  const envelope = readEnvelope(value);
  expect(envelope.kind).toBe('invalid');
  expect(envelope.kind === 'invalid' && envelope.why).toContain(word);
});

test('any JSON value is judged without a throw', () => {
  fc.assert(fc.property(fc.jsonValue(), (value) => void readEnvelope(value)));
});

test('a result that is already serialised travels as it is', () => {
  fc.assert(
    fc.property(id, fc.dictionary(fc.string(), fc.jsonValue()), (requestId, result) => {
      const plain = encode({ jsonrpc: '2.0', id: requestId, result });
      const raw = encode({ jsonrpc: '2.0', id: requestId, result: new RawJson(JSON.stringify(result)) });
      expect(JSON.parse(raw)).toEqual(JSON.parse(plain));
      expect(raw).not.toContain('\n');
    }),
  );
});

test('a batch is a JSON list', () => {
  const messages: JsonRpcMessage[] = [
    { jsonrpc: '2.0', id: 1, result: new RawJson('{"a":1}') },
    { jsonrpc: '2.0', method: 'x' },
  ];
  expect(JSON.parse(encode(messages))).toEqual([
    { jsonrpc: '2.0', id: 1, result: { a: 1 } },
    { jsonrpc: '2.0', method: 'x' },
  ]);
});

test('what another copy of the package has serialised is sent as it is', () => {
  const foreign = { [Symbol.for('jexo.raw-json')]: true, json: '{"tools":[]}' };
  expect(encode({ jsonrpc: '2.0', id: 1, result: foreign })).toBe('{"jsonrpc":"2.0","id":1,"result":{"tools":[]}}');
});

import fc from 'fast-check';
import { toCookie, toHeader, toPath, toQuery } from '../../../src/sources/rest/serialise.js';
import { expectedPath, expectedQuery, isComposite, text, type Value } from './reading.js';

const word = fc.string({ unit: 'grapheme', maxLength: 8 });
const scalar = fc.oneof(word, fc.integer(), fc.boolean());
const value: fc.Arbitrary<Value> = fc.oneof(
  scalar,
  fc.array(word, { maxLength: 4 }),
  fc.dictionary(fc.string({ minLength: 1, maxLength: 5 }), word, { maxKeys: 4 }).map((record) => ({ ...record })),
);
const name = fc.string({ minLength: 1, maxLength: 8 });

test('what goes into a path is what the standard’s expressions give', () => {
  fc.assert(
    fc.property(name, fc.constantFrom('simple', 'label', 'matrix'), fc.boolean(), value, (key, style, explode, given) => {
      expect(toPath(given, { name: key, style: style as 'simple', explode })).toBe(expectedPath(key, style, explode, given));
    }),
    { numRuns: 500 },
  );
});

test('what goes into a query is what the standard’s expressions give, and it can be taken apart again', () => {
  fc.assert(
    fc.property(
      name,
      fc.constantFrom('form', 'spaceDelimited', 'pipeDelimited', 'deepObject'),
      fc.boolean(),
      fc.boolean(),
      value,
      (key, style, explode, reserved, given) => {
        const parts = toQuery(given, { name: key, style: style as 'form', explode, allowReserved: reserved });
        expect(parts.join('&')).toBe(expectedQuery(key, style, style === 'deepObject' ? true : explode, reserved, given));
        const url = new URL(`http://a/?${parts.join('&')}`);
        expect(url.hash).toBe('');
        if (!isComposite(given)) expect([...url.searchParams]).toEqual([[key, text(given)]]);
        else if (Array.isArray(given) && explode) expect(url.searchParams.getAll(key)).toEqual(given);
        else if (!Array.isArray(given) && style === 'deepObject')
          expect(Object.fromEntries([...url.searchParams].map(([each, part]) => [each.slice(key.length + 1, -1), part]))).toEqual(given);
      },
    ),
    { numRuns: 800 },
  );
});

test('headers and cookies', () => {
  expect(toHeader(['a', 'b c'], { name: 'X', style: 'simple', explode: false })).toBe('a,b c');
  expect(toHeader({ r: '100', g: '200' }, { name: 'X', style: 'simple', explode: true })).toBe('r=100,g=200');
  expect(toHeader({ r: '100', g: '200' }, { name: 'X', style: 'simple', explode: false })).toBe('r,100,g,200');
  expect(() => toHeader('a\r\nX-Evil: 1', { name: 'X', style: 'simple', explode: false })).toThrow('line ends');
  expect(toCookie(['a', 'b'], { name: 'c', style: 'form', explode: false })).toEqual(['c=a,b']);
  expect(toQuery({ a: { b: [1, 2] } }, { name: 'f', style: 'deepObject', explode: true })).toEqual(['f[a][b]=1', 'f[a][b]=2']);
  expect(toQuery({ a: 1 }, { name: 'f', style: 'form', explode: true, content: 'application/json' })).toEqual(['f=%7B%22a%22%3A1%7D']);
});

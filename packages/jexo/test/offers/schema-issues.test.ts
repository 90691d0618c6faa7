import { compileSchema, describeIssues } from '../../src/offers/schema.js';
import type { JsonSchemaInput as JsonSchema } from '../../src/offers/schema.js';

async function issuesOf(properties: Record<string, JsonSchema>, value: object): Promise<string> {
  const checked = await compileSchema({ type: 'object', properties }, 'input', 'a test').check(value);
  return checked.ok ? '' : describeIssues(checked.issues);
}

test('a union of simple kinds is one issue that names them all', async () => {
  const day = { type: 'string', anyOf: [{ format: 'date-time' }, { format: 'date' }] };
  expect(await issuesOf({ day }, { day: 'yesterday' })).toBe('- day: expected the format date-time, or the format date; got "yesterday"');
  expect(await issuesOf({ day }, { day: '2026-05-04' })).toBe('');
  const either = { oneOf: [{ type: 'number' }, { type: 'string', minLength: 3 }] };
  expect(await issuesOf({ either }, { either: 'x' })).toBe('- either: expected number, or at least 3 characters; got "x"');
});

test('a value is told what the nearest branch of a union wants, and not the others', async () => {
  const place = {
    anyOf: [{ type: 'object', required: ['hive'], properties: { hive: { type: 'string' } } }, { type: 'string' }],
  };
  const text = await issuesOf({ place }, { place: {} });
  expect(text).toContain('- place.hive: a value is required; got nothing');
  expect(text).not.toContain('expected string');
});

test('what an object inherits is no field of it', async () => {
  expect(await issuesOf({ valueOf: { type: 'null' }, constructor: { type: 'number' } }, {})).toBe('');
  const checked = await compileSchema({ type: 'object', required: ['toString'] }, 'input', 'a test').check({});
  expect(checked).toEqual({ ok: false, issues: [{ path: 'toString', expected: 'a value is required', got: 'nothing' }] });
});

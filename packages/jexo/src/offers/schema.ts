import { JexoError, messageOf } from '../errors.js';
import type { JsonSchema } from '../protocol/types.js';
import type { FromJsonSchema } from './from-json-schema.js';

/** The part of the Standard Schema interface (version 1) that Jexo reads; zod 4.2 and newer have all of it. */
export interface StandardSchema<Input = unknown, Output = Input> {
  readonly '~standard': {
    readonly version: 1;
    readonly vendor: string;
    readonly validate: (value: unknown, ...rest: never[]) => StandardResult<Output> | Promise<StandardResult<Output>>;
    readonly types?: { readonly input: Input; readonly output: Output } | undefined;
  };
}
type StandardResult<Output> = { readonly value: Output; readonly issues?: undefined } | { readonly issues: readonly StandardIssue[] };
interface StandardIssue {
  readonly message: string;
  readonly path?: readonly (PropertyKey | { readonly key: PropertyKey })[] | undefined;
}
interface OffersJsonSchema {
  readonly jsonSchema?: Record<'input' | 'output', (options: { target: string }) => Record<string, unknown>>;
}

/** A schema: zod 4, any Standard Schema that gives JSON Schema, or plain JSON Schema (2020-12, or draft-07 named by `$schema`). */
export type Schema = StandardSchema | JsonSchemaInput;

/** JSON Schema as it is given: an object written in place, read from a file or made by a library. It is checked before it is used. */
export type JsonSchemaInput = { readonly [keyword: string]: unknown };

/** The type of a value after it has passed the schema. */
export type Infer<S> = S extends StandardSchema<unknown, infer Output> ? Output : S extends JsonSchemaInput ? FromJsonSchema<S> : unknown;

/** The type of a value before it passes the schema: defaulted fields may be missing. */
export type InferInput<S> =
  S extends StandardSchema<infer Input, unknown> ? Input : S extends JsonSchemaInput ? FromJsonSchema<S> : unknown;

/** One wrong field: where, what was expected, what came. */
export interface Issue {
  /** A path as a person writes it: `place.apiary`, `counts[2]`; empty for the whole value. */
  readonly path: string;
  /** What would have been right, in words. */
  readonly expected: string;
  /** What came, in words. */
  readonly got: string;
}
export type Checked = { readonly ok: true; readonly value: unknown } | { readonly ok: false; readonly issues: readonly Issue[] };

/** A schema that is ready to check values. */
export interface CompiledSchema {
  /** As JSON Schema, which clients are shown. */
  readonly json: JsonSchema;
  /** Checks a value; the answer is a promise only while the validator is still loading or the schema itself is asynchronous. */
  check(value: unknown): Checked | Promise<Checked>;
}

export function isStandardSchema(value: unknown): value is StandardSchema {
  return (typeof value === 'object' || typeof value === 'function') && value !== null && '~standard' in value;
}

export interface CompileOptions {
  /** False: defaults are not filled in, and only say what the other side does. Default true. */
  readonly fillDefaults?: boolean;
}

/**
 * Reads a schema once: its JSON Schema for listings, and a check that compiles on first use.
 * @throws JexoError JEXO_SCHEMA_INVALID
 */
export function compileSchema(schema: Schema, direction: 'input' | 'output', where: string, options: CompileOptions = {}): CompiledSchema {
  return isStandardSchema(schema) ? fromStandard(schema, direction, where) : fromJson(schema, where, options);
}

/**
 * A schema that is made when somebody lists or calls what it belongs to: a document of a thousand operations would otherwise
 * have all of them converted before the first is called.
 *
 * @param make gives plain JSON Schema of an object; what it throws is thrown by `check`, and the listing shows an open object
 */
export function lazySchema(make: () => JsonSchema, where: string, options: CompileOptions = {}): CompiledSchema {
  let made: CompiledSchema | undefined;
  const compiled = (): CompiledSchema => {
    if (made !== undefined) return made;
    try {
      made = fromJson(make(), where, options);
    } catch (error) {
      const check = () => {
        throw error;
      };
      made = { json: { type: 'object' }, check };
    }
    return made;
  };
  return {
    get json() {
      return compiled().json;
    },
    check: (value) => compiled().check(value),
  };
}

function fromStandard(schema: StandardSchema, direction: 'input' | 'output', where: string): CompiledSchema {
  const standard = schema['~standard'];
  const offered = (standard as OffersJsonSchema).jsonSchema;
  if (offered === undefined) {
    throw new JexoError(
      'JEXO_SCHEMA_INVALID',
      `The ${direction} schema of ${where} (${standard.vendor}) has no JSON Schema, so clients can't be shown it.`,
      { where },
    );
  }
  let json: JsonSchema;
  try {
    json = withoutDialect(offered[direction]({ target: 'draft-2020-12' }));
  } catch (error) {
    throw new JexoError(
      'JEXO_SCHEMA_INVALID',
      `The ${direction} schema of ${where} cannot be written as JSON Schema: ${messageOf(error)}`,
      { where, cause: error },
    );
  }
  requireObjectRoot(json, direction, where);
  const read = (result: StandardResult<unknown>, value: unknown): Checked =>
    result.issues === undefined
      ? { ok: true, value: result.value }
      : { ok: false, issues: result.issues.map((issue) => standardIssue(issue, value)) };
  return {
    json,
    check(value) {
      const result = standard.validate(value);
      return result instanceof Promise ? result.then((settled) => read(settled, value)) : read(result, value);
    },
  };
}

/** A schema that is used more often than this is worth compiling. */
const checksAtOnce = 4;

function fromJson(given: JsonSchemaInput, where: string, { fillDefaults = true }: CompileOptions): CompiledSchema {
  if (typeof given !== 'object' || given === null || Array.isArray(given))
    throw new JexoError('JEXO_SCHEMA_INVALID', `The schema of ${where} is not an object.`, { where });
  const schema = given as JsonSchema;
  const json = withoutDialect(schema);
  requireObjectRoot(json, 'input', where);
  let check: ((value: unknown) => Checked) | undefined;
  let atOnce = checksAtOnce;
  return {
    json,
    check(value) {
      return check === undefined ? first(value) : check(value);
    },
  };
  async function first(value: unknown): Promise<Checked> {
    if (atOnce-- > 0) {
      const { passesAtOnce } = await import('./first-check.js');
      if (passesAtOnce(schema, value, fillDefaults)) return { ok: true, value };
    }
    const { compileCheck } = await import('./json-schema-check.js');
    return (check ??= compileCheck(schema, where, fillDefaults))(value);
  }
}

/** 2020-12 is what a missing `$schema` means (Server features, "Tools"), so naming it only costs tokens. */
function withoutDialect(schema: Record<string, unknown>): JsonSchema {
  if (typeof schema.$schema !== 'string' || !schema.$schema.includes('2020-12')) return schema;
  const { $schema: _, ...rest } = schema;
  return rest;
}

function requireObjectRoot(json: JsonSchema, direction: string, where: string): void {
  if (json.type === 'object') return;
  throw new JexoError(
    'JEXO_SCHEMA_INVALID',
    `The ${direction} schema of ${where} must describe an object: the protocol wants "type": "object" at its root.`,
    {
      where,
      next: 'Put the value into an object with one named property.',
    },
  );
}

function standardIssue(issue: StandardIssue, root: unknown): Issue {
  const path = (issue.path ?? []).map((step) => (typeof step === 'object' ? step.key : step));
  let value = root;
  for (const step of path) value = typeof value === 'object' && value !== null ? (value as Record<PropertyKey, unknown>)[step] : undefined;
  return {
    path: formatPath(path),
    expected: issue.message.replace(/^Invalid (?:input|option): /, '').replace(/, received .*$/, ''),
    got: show(value),
  };
}

export function formatPath(steps: readonly PropertyKey[]): string {
  return steps.reduce<string>(
    (path, step) => (typeof step === 'number' ? `${path}[${step}]` : path === '' ? String(step) : `${path}.${String(step)}`),
    '',
  );
}

/** A value in a few words, for messages. */
export function show(value: unknown): string {
  if (value === undefined) return 'nothing';
  let text: string | undefined;
  try {
    text = JSON.stringify(value);
  } catch {
    text = undefined; // a cycle or a BigInt: name the kind instead
  }
  if (text === undefined) return `a ${typeof value}`;
  return text.length > 80 ? `${text.slice(0, 77)}...` : text;
}

/** The text a model reads when its input was wrong: each field, what was expected, what came. */
export function describeIssues(issues: readonly Issue[]): string {
  return issues.map(({ path, expected, got }) => `- ${path === '' ? '(the whole input)' : path}: ${expected}; got ${got}`).join('\n');
}

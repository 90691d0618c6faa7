import { Ajv, type ErrorObject, type Options } from 'ajv';
import { Ajv2020 } from 'ajv/dist/2020.js';
import addFormats from 'ajv-formats';
import { JexoError, messageOf } from '../errors.js';
import type { JsonSchemaInput } from './schema.js';
import { interpretedCheck } from './interpreted-check.js';
import { boundedPattern } from './bounded-pattern.js';
import { formatPath, show, type Checked, type Issue } from './schema.js';

// Checking each schema against its meta-schema would compile that first, at some 100 ms; a wrong keyword still fails when the schema itself is compiled.
const options: Options = {
  validateSchema: false,
  allErrors: true,
  strict: false,
  verbose: true,
  validateFormats: true,
  // A field may be called `constructor`: what an object inherits is no field of it.
  ownProperties: true,
  logger: false,
  code: { optimize: false, regExp: Object.assign(boundedPattern, { code: 'boundedPattern' }) as never },
};
type AddFormats = (ajv: Ajv) => Ajv;

const dialects = new Map<string, Ajv>();
const isDraft07 = ({ $schema }: JsonSchemaInput) => typeof $schema === 'string' && $schema.includes('draft-07');

function newAjv(schema: JsonSchemaInput, useDefaults: boolean): Ajv {
  const { $schema } = schema;
  if (typeof $schema === 'string' && !/draft-07|2020-12/.test($schema))
    throw new JexoError('JEXO_SCHEMA_INVALID', `The dialect ${$schema.slice(0, 100)} is not known; 2020-12 and draft-07 are.`, {
      where: '$schema',
    });
  const ajv = new (isDraft07(schema) ? Ajv : Ajv2020)({ ...options, useDefaults });
  (addFormats as unknown as AddFormats)(ajv);
  return ajv;
}

function ajvFor(schema: JsonSchemaInput, useDefaults: boolean): Ajv {
  const key = `${isDraft07(schema) ? 'draft-07' : '2020-12'} ${useDefaults}`;
  const known = typeof schema.$schema === 'string' ? undefined : dialects.get(key);
  if (known !== undefined) return known;
  const made = newAjv(schema, useDefaults);
  dialects.set(key, made);
  return made;
}

/**
 * Compiles plain JSON Schema into a check. Defaults are filled in, unless `fillDefaults` is false.
 * @throws JexoError JEXO_SCHEMA_INVALID
 */
export function compileCheck(schema: JsonSchemaInput, where: string, fillDefaults = true): (value: unknown) => Checked {
  // An identifier holds in its own schema only: two servers, or two tools, may use the same.
  const ajv = /"\$(?:id|dynamicAnchor|anchor)"/.test(JSON.stringify(schema)) ? newAjv(schema, fillDefaults) : ajvFor(schema, fillDefaults);
  let validate: ReturnType<Ajv['compile']>;
  try {
    validate = ajv.compile(schema);
  } catch (error) {
    if (error instanceof EvalError || /unsafe-eval|code generation from strings/i.test(messageOf(error))) {
      const check = interpretedCheck(schema, isDraft07(schema), fillDefaults);
      return (value) => {
        const errors = check(value);
        return errors.length === 0 ? { ok: true, value } : { ok: false, issues: readable(errors) };
      };
    }
    throw new JexoError('JEXO_SCHEMA_INVALID', `The schema of ${where} is not valid JSON Schema: ${messageOf(error)}`, {
      where,
      cause: error,
    });
  }
  // The compiled check is all that is wanted: the validator would keep each schema for ever.
  ajv.removeSchema(schema);
  return (value) => {
    if (validate(value)) return { ok: true, value };
    return { ok: false, issues: readable(validate.errors ?? []) };
  };
}

/** One issue per field and reason; a union of simple kinds is one issue that names them all. */
function readable(errors: readonly ErrorObject[]): Issue[] {
  const issues = new Map<string, Issue>();
  const add = (issue: Issue) => {
    const key = `${issue.path} ${issue.expected}`;
    if (!issues.has(key)) issues.set(key, issue);
  };
  const left = new Set(errors);
  for (const union of errors.filter(({ keyword }) => keyword === 'anyOf' || keyword === 'oneOf')) {
    // Each item of a list has errors of its own against the same union.
    const branches = [...left].filter(
      ({ schemaPath, instancePath }) =>
        schemaPath.startsWith(`${union.schemaPath}/`) && `${instancePath}/`.startsWith(`${union.instancePath}/`),
    );
    const whole = readableIssue(union);
    const parts = branches.map(readableIssue);
    if (parts.length === 0) continue;
    // A value that comes near one of the branches is told what that one wants, and not what all of them want.
    if (parts.some(({ path }) => path !== whole.path)) {
      const near = nearestBranch(union, branches);
      for (const each of [union, ...branches.filter((each) => !near.has(each))]) left.delete(each);
      continue;
    }
    for (const each of [union, ...branches]) left.delete(each);
    const [first, ...rest] = new Set(parts.map(({ expected }) => expected));
    add({ ...whole, expected: [first, ...rest.map((each) => each.replace(/^expected /, ''))].join(', or ') });
  }
  for (const error of left) add(readableIssue(error));
  return [...issues.values()];
}

/** The errors of the branch of a union that a value comes nearest to: no error at its own kind or constants, and the fewest others. */
function nearestBranch(union: ErrorObject, errors: readonly ErrorObject[]): ReadonlySet<ErrorObject> {
  const branches = new Map<string, ErrorObject[]>();
  for (const error of errors) {
    const branch = error.schemaPath.slice(union.schemaPath.length + 1).split('/')[0]!;
    branches.set(branch, [...(branches.get(branch) ?? []), error]);
  }
  const distance = (branch: readonly ErrorObject[]) =>
    branch.reduce((sum, { keyword, instancePath }) => {
      if (instancePath === union.instancePath && keyword === 'type') return sum + 1000;
      return sum + (keyword === 'const' || keyword === 'enum' ? 100 : 1);
    }, 0);
  const [nearest = []] = [...branches.values()].sort((a, b) => distance(a) - distance(b));
  return new Set(nearest);
}

function readableIssue(error: ErrorObject): Issue {
  const steps = error.instancePath
    .split('/')
    .slice(1)
    .map((step) => step.replaceAll('~1', '/').replaceAll('~0', '~'))
    .map((step) => (/^\d+$/.test(step) ? Number(step) : step));
  const params = error.params as Record<string, unknown>;
  const got = show(error.data);
  switch (error.keyword) {
    case 'required':
      return { path: formatPath([...steps, String(params.missingProperty)]), expected: 'a value is required', got: 'nothing' };
    case 'additionalProperties':
    case 'unevaluatedProperties': {
      const name = String(params.additionalProperty ?? params.unevaluatedProperty);
      const known = Object.keys((error.parentSchema as { properties?: object } | undefined)?.properties ?? {});
      const expected = known.length > 0 ? `there is no such field (the fields are ${known.join(', ')})` : 'there is no such field';
      return { path: formatPath([...steps, name]), expected, got: show((error.data as Record<string, unknown>)[name]) };
    }
    case 'type':
      return { path: formatPath(steps), expected: `expected ${[params.type].flat().join(' or ')}`, got };
    case 'enum':
      return { path: formatPath(steps), expected: `expected one of ${(params.allowedValues as unknown[]).map(show).join(', ')}`, got };
    case 'const':
      return { path: formatPath(steps), expected: `expected ${show(params.allowedValue)}`, got };
    case 'minimum':
    case 'minLength':
    case 'minItems':
      return { path: formatPath(steps), expected: `expected at least ${String(params.limit)}${unitOf(error.keyword)}`, got };
    case 'maximum':
    case 'maxLength':
    case 'maxItems':
      return { path: formatPath(steps), expected: `expected at most ${String(params.limit)}${unitOf(error.keyword)}`, got };
    case 'pattern':
      return { path: formatPath(steps), expected: `expected text that matches ${String(params.pattern)}`, got };
    case 'format':
      return { path: formatPath(steps), expected: `expected the format ${String(params.format)}`, got };
    default:
      return { path: formatPath(steps), expected: error.message ?? error.keyword, got };
  }
}

function unitOf(keyword: string): string {
  return keyword.endsWith('Length') ? ' characters' : keyword.endsWith('Items') ? ' items' : '';
}

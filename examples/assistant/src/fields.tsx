import type { JsonSchema } from 'jexo';

export type FieldValues = Readonly<Record<string, string | boolean | readonly string[]>>;

interface Choice {
  readonly value: string;
  readonly words: string;
}

const propertiesOf = ({ properties }: JsonSchema) => Object.entries((properties ?? {}) as Record<string, JsonSchema>);
const requiredOf = ({ required }: JsonSchema) => new Set((required ?? []) as string[]);
const kindOf = ({ type }: JsonSchema) => [type].flat()[0];

function choicesOf(schema: JsonSchema): readonly Choice[] | undefined {
  const { enum: values, enumNames, oneOf, anyOf } = schema as JsonSchema & { enumNames?: string[] };
  if (Array.isArray(values)) return values.map((value, index) => ({ value: String(value), words: enumNames?.[index] ?? String(value) }));
  const listed = (oneOf ?? anyOf) as JsonSchema[] | undefined;
  return listed?.every((each) => each.const !== undefined)
    ? listed.map((each) => ({ value: String(each.const), words: each.title ?? String(each.const) }))
    : undefined;
}

/** What a form begins with: the defaults of its fields. */
export function initialValues(schema: JsonSchema): FieldValues {
  return Object.fromEntries(
    propertiesOf(schema).map(([name, each]) => {
      const { default: given } = each;
      if (kindOf(each) === 'boolean') return [name, given === true];
      if (kindOf(each) === 'array') return [name, Array.isArray(given) ? given.map(String) : []];
      return [name, given === undefined || given === null ? '' : String(given)];
    }),
  );
}

/** The values as the server wants them, and what is wrong with those that are not. */
export function readValues(schema: JsonSchema, values: FieldValues): { content: Record<string, unknown>; issues: Record<string, string> } {
  const content: Record<string, unknown> = {};
  const issues: Record<string, string> = {};
  const required = requiredOf(schema);
  for (const [name, each] of propertiesOf(schema)) {
    const value = values[name] ?? '';
    if (value === '' || (Array.isArray(value) && value.length === 0)) {
      if (required.has(name)) issues[name] = 'This is needed.';
      continue;
    }
    const kind = kindOf(each);
    if (kind === 'number' || kind === 'integer') {
      const number = Number(value);
      if (Number.isNaN(number) || (kind === 'integer' && !Number.isInteger(number)))
        issues[name] = kind === 'integer' ? 'A whole number is needed.' : 'A number is needed.';
      else if (typeof each.minimum === 'number' && number < each.minimum) issues[name] = `At least ${each.minimum}.`;
      else if (typeof each.maximum === 'number' && number > each.maximum) issues[name] = `At most ${each.maximum}.`;
      else content[name] = number;
    } else content[name] = value;
  }
  return { content, issues };
}

/** The fields of a server’s question. */
export function QuestionFields({
  schema,
  values,
  issues,
  onChange,
}: {
  schema: JsonSchema;
  values: FieldValues;
  issues: Readonly<Record<string, string>>;
  onChange(values: FieldValues): void;
}) {
  const required = requiredOf(schema);
  return (
    <>
      {propertiesOf(schema).map(([name, each]) => (
        <label key={name} className="field">
          <span>
            {each.title ?? name} {!required.has(name) && kindOf(each) !== 'boolean' && <span className="quiet">optional</span>}
          </span>
          {each.description !== undefined && <span className="quiet">{each.description}</span>}
          <Control name={name} schema={each} value={values[name] ?? ''} onChange={(value) => onChange({ ...values, [name]: value })} />
          {issues[name] !== undefined && (
            <span className="issue" role="alert">
              {issues[name]}
            </span>
          )}
        </label>
      ))}
    </>
  );
}

const inputTypes: Readonly<Record<string, string>> = { date: 'date', 'date-time': 'datetime-local', email: 'email', uri: 'url' };

function Control({
  name,
  schema,
  value,
  onChange,
}: {
  name: string;
  schema: JsonSchema;
  value: FieldValues[string];
  onChange(value: FieldValues[string]): void;
}) {
  const kind = kindOf(schema);
  if (kind === 'boolean')
    return <input type="checkbox" name={name} checked={value === true} onChange={(event) => onChange(event.target.checked)} />;
  if (kind === 'array')
    return (
      <select
        multiple
        name={name}
        value={value as readonly string[]}
        onChange={(event) => onChange([...event.target.selectedOptions].map((option) => option.value))}
      >
        {(choicesOf((schema.items ?? {}) as JsonSchema) ?? []).map((each) => (
          <option key={each.value} value={each.value}>
            {each.words}
          </option>
        ))}
      </select>
    );
  const choices = choicesOf(schema);
  if (choices !== undefined)
    return (
      <select name={name} value={String(value)} onChange={(event) => onChange(event.target.value)}>
        <option value="">Choose…</option>
        {choices.map((each) => (
          <option key={each.value} value={each.value}>
            {each.words}
          </option>
        ))}
      </select>
    );
  const isNumber = kind === 'number' || kind === 'integer';
  return (
    <input
      type={isNumber ? 'text' : (inputTypes[schema.format as string] ?? 'text')}
      inputMode={isNumber ? 'decimal' : undefined}
      name={name}
      value={String(value)}
      onChange={(event) => onChange(event.target.value)}
    />
  );
}

import { useId, useState, type ReactNode } from 'react';
import type { JsonSchema } from './model';

export type Input = Record<string, unknown>;

const propertiesOf = (schema: JsonSchema) => Object.entries((schema.properties ?? {}) as Record<string, JsonSchema>);
const typeOf = (schema: JsonSchema) => ([schema.type].flat() as (string | undefined)[]).find((type) => type !== 'null');

/** The input a form starts with: defaults and first examples of what is required. */
export function initialInput(schema: JsonSchema): Input {
  const input: Input = {};
  for (const [name, property] of propertiesOf(schema)) if (property.default !== undefined) input[name] = property.default;
  return input;
}

/** A form for one JSON Schema. What it has no field for is written as JSON, in its place. */
export function SchemaForm({ schema, value, onChange }: { schema: JsonSchema; value: Input; onChange: (value: Input) => void }) {
  const fields = propertiesOf(schema);
  const required = new Set((schema.required ?? []) as string[]);
  if (fields.length === 0) return <p className="quiet">This tool takes no input.</p>;
  const set = (name: string, next: unknown) => {
    const { [name]: _, ...rest } = value;
    onChange(next === undefined ? rest : { ...rest, [name]: next });
  };
  return (
    <div className="fields">
      {fields.map(([name, property]) => (
        <Field
          key={name}
          name={name}
          schema={property}
          required={required.has(name)}
          value={value[name]}
          onChange={(next) => set(name, next)}
        />
      ))}
    </div>
  );
}

interface FieldProps {
  readonly name: string;
  readonly schema: JsonSchema;
  readonly required: boolean;
  readonly value: unknown;
  readonly onChange: (value: unknown) => void;
}

function Field(props: FieldProps) {
  const { name, schema, required, value, onChange } = props;
  const id = useId();
  const type = typeOf(schema);
  if (type === 'object' && schema.properties !== undefined) {
    return (
      <fieldset className="nested">
        <legend>
          <code>{name}</code> <Facts schema={schema} required={required} />
        </legend>
        <SchemaForm
          schema={schema}
          value={(value ?? {}) as Input}
          onChange={(next) => onChange(Object.keys(next).length === 0 && !required ? undefined : next)}
        />
      </fieldset>
    );
  }
  const described = `${id}-about`;
  const common = { id, name, 'aria-describedby': described, 'aria-required': required };
  return (
    <div className="field">
      <label htmlFor={id}>
        <code>{name}</code> <Facts schema={schema} required={required} />
      </label>
      {control()}
      <p id={described} className="about quiet">
        {schema.description as string | undefined}
      </p>
    </div>
  );

  function control(): ReactNode {
    if (Array.isArray(schema.enum)) {
      const options = schema.enum as unknown[];
      return (
        <select
          {...common}
          value={value === undefined ? '' : String(options.indexOf(value))}
          onChange={(event) => onChange(event.target.value === '' ? undefined : options[Number(event.target.value)])}
        >
          {(!required || value === undefined) && <option value="">{required ? 'choose…' : 'leave out'}</option>}
          {options.map((option, index) => (
            <option key={index} value={index}>
              {typeof option === 'string' ? option : JSON.stringify(option)}
            </option>
          ))}
        </select>
      );
    }
    if (type === 'boolean') {
      return (
        <span className="tick">
          <input {...common} type="checkbox" checked={value === true} onChange={(event) => onChange(event.target.checked)} />{' '}
          {value === undefined ? 'left out' : String(value)}
        </span>
      );
    }
    if (type === 'number' || type === 'integer') {
      return (
        <input
          {...common}
          type="number"
          step={type === 'integer' ? 1 : 'any'}
          min={schema.minimum as number | undefined}
          max={schema.maximum as number | undefined}
          value={value === undefined ? '' : String(value)}
          onChange={(event) => onChange(event.target.value === '' ? undefined : Number(event.target.value))}
        />
      );
    }
    if (type === 'string') {
      return (
        <input
          {...common}
          type="text"
          value={(value as string | undefined) ?? ''}
          placeholder={hintOf(schema)}
          onChange={(event) => onChange(event.target.value === '' && !required ? undefined : event.target.value)}
        />
      );
    }
    return (
      <JsonField
        {...common}
        value={value}
        onChange={onChange}
        placeholder={type === 'array' ? '[ … ]' : type === 'object' ? '{ … }' : 'JSON'}
      />
    );
  }
}

function hintOf(schema: JsonSchema): string | undefined {
  const [example] = (schema.examples as unknown[] | undefined) ?? [];
  if (example !== undefined) return String(example);
  return schema.format === 'date-time' ? '2026-06-01T00:00:00Z' : schema.format === 'date' ? '2026-06-01' : undefined;
}

function Facts({ schema, required }: { schema: JsonSchema; required: boolean }) {
  const { minimum, maximum, format } = schema;
  const range =
    minimum !== undefined && maximum !== undefined
      ? `${String(minimum)} to ${String(maximum)}`
      : minimum !== undefined
        ? `at least ${String(minimum)}`
        : maximum !== undefined
          ? `at most ${String(maximum)}`
          : undefined;
  const kind = Array.isArray(schema.enum)
    ? 'one of'
    : ((format as string | undefined) ?? [schema.type].flat().filter(Boolean).join(' or '));
  return (
    <span className="quiet">
      {[kind, range, required ? undefined : schema.default !== undefined ? `default ${JSON.stringify(schema.default)}` : 'optional']
        .filter(Boolean)
        .join(' · ')}
      {required && <span className="must"> required</span>}
    </span>
  );
}

interface JsonFieldProps {
  readonly value: unknown;
  readonly onChange: (value: unknown) => void;
  readonly placeholder?: string;
  readonly id?: string;
  readonly rows?: number;
  readonly label?: string;
}

/** JSON as text. What cannot be read yet is kept as it is typed, and said. */
export function JsonField({ value, onChange, label, rows = 3, ...rest }: JsonFieldProps) {
  const [text, setText] = useState(() => (value === undefined ? '' : JSON.stringify(value, null, 2)));
  const [wrong, setWrong] = useState<string>();
  return (
    <>
      <textarea
        {...rest}
        aria-label={label}
        rows={rows}
        spellCheck={false}
        aria-invalid={wrong !== undefined}
        value={text}
        onChange={(event) => {
          const next = event.target.value;
          setText(next);
          if (next.trim() === '') {
            setWrong(undefined);
            return onChange(undefined);
          }
          try {
            onChange(JSON.parse(next));
            setWrong(undefined);
          } catch (error) {
            setWrong((error as Error).message);
          }
        }}
      />
      {wrong !== undefined && <p className="wrong">Not JSON yet: {wrong}</p>}
    </>
  );
}

import { useContext, useId, useMemo, useState, type FocusEvent } from 'react';
import { Form, useShownIssues, type FieldProps } from './form-context';
import { Control } from './field-control';
import type { Issue, JsonSchema } from './model';
import { resolve, typesOf, typeOf, variantsOf, wordsFor, constantsOf, fits, initial, type Input } from './schema-shapes';

export interface SchemaFormProps {
  readonly schema: JsonSchema;
  readonly value: Input;
  readonly onChange: (value: Input) => void;
  /** What is wrong with the value. Shown at a field once it was left; see `showAll`. */
  readonly issues?: readonly Issue[];
  /** Shows what is wrong at once, with fields that nobody has been in: the form was sent. */
  readonly showAll?: boolean;
  /** Asks for suggestions while a text is typed. */
  readonly suggest?: (name: string, typed: string) => void;
  readonly suggestions?: Readonly<Record<string, readonly string[]>>;
  readonly empty?: string;
}

/** A form for any JSON Schema. What it has no field for is written as JSON, in its place. */
export function SchemaForm({ schema, value, onChange, issues = [], showAll = false, suggest, suggestions = {}, empty }: SchemaFormProps) {
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const leave = useMemo(() => (path: string) => setLeft((before) => (before.has(path) ? before : new Set([...before, path]))), []);
  return (
    <Form.Provider value={{ root: schema, issues, left, leave, showAll, suggestions, ...(suggest && { suggest }) }}>
      <Fields schema={schema} value={value} onChange={onChange} path="" empty={empty ?? 'It takes no arguments.'} />
      <Issues path="" />
    </Form.Provider>
  );
}

interface FieldsProps {
  readonly schema: JsonSchema;
  readonly value: Input;
  readonly onChange: (value: Input) => void;
  readonly path: string;
  readonly empty: string;
}

function Fields({ schema, value, onChange, path, empty }: FieldsProps) {
  const { root } = useContext(Form);
  const resolved = resolve(schema, root);
  const fields = Object.entries((resolved.properties ?? {}) as Record<string, JsonSchema>);
  const required = new Set((resolved.required ?? []) as string[]);
  const set = (name: string, next: unknown) => {
    const { [name]: _, ...rest } = value;
    onChange(next === undefined ? rest : { ...rest, [name]: next });
  };
  const free = resolved.additionalProperties ?? resolved.patternProperties;
  const known = new Set(fields.map(([name]) => name));
  const extra = Object.keys(value).filter((name) => !known.has(name));
  const isOpen =
    (free !== undefined && free !== false) ||
    (fields.length === 0 && resolved.additionalProperties !== false && path !== '') ||
    extra.length > 0;
  if (fields.length === 0 && !isOpen) return <p className="quiet">{empty}</p>;
  return (
    <div className="fields">
      {fields.map(([name, property]) => (
        <Field
          key={name}
          name={name}
          path={path === '' ? name : `${path}.${name}`}
          schema={property}
          required={required.has(name)}
          value={value[name]}
          onChange={(next) => set(name, next)}
        />
      ))}
      {isOpen && (
        <Entries
          value={Object.fromEntries(extra.map((name) => [name, value[name]]))}
          schema={typeof free === 'object' ? (resolved.additionalProperties as JsonSchema) : {}}
          path={path}
          onChange={(next) => onChange({ ...Object.fromEntries(Object.entries(value).filter(([name]) => known.has(name))), ...next })}
        />
      )}
    </div>
  );
}

/** Fields whose names are free. */
function Entries({ value, schema, path, onChange }: { value: Input; schema: JsonSchema; path: string; onChange: (value: Input) => void }) {
  const [name, setName] = useState('');
  const { root } = useContext(Form);
  const add = () => {
    if (name === '' || name in value) return;
    onChange({ ...value, [name]: initial(schema, root) ?? '' });
    setName('');
  };
  return (
    <div className="entries">
      {Object.entries(value).map(([key, item]) => (
        <div key={key} className="item">
          <Field
            name={key}
            path={path === '' ? key : `${path}.${key}`}
            schema={schema}
            required
            value={item}
            onChange={(next) => onChange({ ...value, [key]: next })}
          />
          <Remove what={key} onPress={() => onChange(Object.fromEntries(Object.entries(value).filter(([other]) => other !== key)))} />
        </div>
      ))}
      <div className="adder">
        <input
          aria-label="Name of a further field"
          placeholder="name of a further field"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <button type="button" className="plain small" disabled={name === '' || name in value} onClick={add}>
          Add field
        </button>
      </div>
    </div>
  );
}

function Remove({ what, onPress }: { what: string; onPress: () => void }) {
  return (
    <button type="button" className="plain small remove" aria-label={`Remove ${what}`} onClick={onPress}>
      ×
    </button>
  );
}

// eslint-disable-next-line max-lines-per-function -- one branch for each kind of schema
function Field({ schema: given, ...props }: FieldProps) {
  const { name, path, required, value, onChange } = props;
  const { root, leave } = useContext(Form);
  const id = useId();
  const onBlur = ({ currentTarget, relatedTarget }: FocusEvent) => {
    if (!currentTarget.contains(relatedTarget)) leave(path);
  };
  const schema = resolve(given, root);
  const variants = variantsOf(schema, root);
  const [picked, pick] = useState<number>();
  if (variants.length > 0) {
    const found = variants.findIndex((variant) => value !== undefined && fits(value, variant.schema, root));
    const chosen =
      value === undefined
        ? picked
        : picked !== undefined && fits(value, variants[picked]!.schema, root)
          ? picked
          : found < 0
            ? undefined
            : found;
    const variant = chosen === undefined ? undefined : variants[chosen];
    return (
      <div className="field union" onBlur={onBlur}>
        <label htmlFor={id} className="label">
          <Name name={name} schema={schema} /> <Facts schema={{ ...schema, type: undefined }} required={required} kind="one of these" />
        </label>
        <select
          id={id}
          value={chosen ?? ''}
          onChange={(event) => {
            const next = event.target.value === '' ? undefined : Number(event.target.value);
            pick(next);
            onChange(next === undefined ? undefined : initial(variants[next]!.schema, root));
          }}
        >
          <option value="">{required ? 'choose…' : 'none'}</option>
          {variants.map(({ words }, index) => (
            <option key={index} value={index}>
              {words}
            </option>
          ))}
        </select>
        <About id={`${id}-about`} schema={schema} path={path} />
        {variant !== undefined && typesOf(variant.schema)[0] !== 'null' && variant.schema.const === undefined && (
          <Field {...props} schema={{ ...variant.schema, description: undefined }} required />
        )}
      </div>
    );
  }
  const type = typeOf(schema);
  if (type === 'object') {
    if (value === undefined && !required) {
      return (
        <div className="field">
          <span className="label">
            <Name name={name} schema={schema} /> <Facts schema={schema} required={required} />
          </span>
          <button type="button" className="plain small" onClick={() => onChange(initial(schema, root) ?? {})}>
            Add {name}
          </button>
          <About id={`${id}-about`} schema={schema} path={path} />
        </div>
      );
    }
    return (
      <fieldset className="nested" onBlur={onBlur}>
        <legend className="label">
          <Name name={name} schema={schema} /> <Facts schema={schema} required={required} />
        </legend>
        {!required && <Remove what={name} onPress={() => onChange(undefined)} />}
        <About id={`${id}-about`} schema={schema} path={path} />
        <Fields schema={schema} value={(value ?? {}) as Input} onChange={onChange} path={path} empty="An object without fields." />
      </fieldset>
    );
  }
  if (type === 'array') return <List {...props} schema={schema} onBlur={onBlur} />;
  return (
    <div className="field" onBlur={onBlur}>
      <label htmlFor={id} className="label">
        <Name name={name} schema={schema} /> <Facts schema={schema} required={required} />
      </label>
      <Control id={id} name={name} path={path} schema={schema} type={type} required={required} value={value} onChange={onChange} />
      <About id={`${id}-about`} schema={schema} path={path} />
    </div>
  );
}

function About({ id, schema, path }: { id: string; schema: JsonSchema; path: string }) {
  return (
    <>
      {typeof schema.description === 'string' && (
        <p id={id} className="about quiet">
          {schema.description}
        </p>
      )}
      <Issues path={path} />
    </>
  );
}

function Issues({ path }: { path: string }) {
  return useShownIssues(path).map((issue, index) => (
    <p key={index} className="wrong">
      {issue.expected}
      {issue.got !== 'nothing' && `; got ${issue.got}`}
    </p>
  ));
}

interface ListProps extends FieldProps {
  readonly onBlur: (event: FocusEvent) => void;
}

function List({ name, path, schema, required, value, onChange, onBlur }: ListProps) {
  const { root } = useContext(Form);
  const fixed = (schema.prefixItems ?? []) as JsonSchema[];
  const items = (value ?? []) as unknown[];
  const more = schema.items === false ? undefined : (schema.items as JsonSchema | undefined);
  const schemaAt = (index: number) => fixed[index] ?? more ?? {};
  const canAdd =
    items.length < fixed.length || (schema.items !== false && items.length < ((schema.maxItems as number | undefined) ?? Infinity));
  const set = (index: number, next: unknown) => onChange(items.map((item, at) => (at === index ? (next ?? null) : item)));
  return (
    <fieldset className="nested list" onBlur={onBlur}>
      <legend className="label">
        <Name name={name} schema={schema} />{' '}
        <Facts schema={schema} required={required} kind={`list${more === undefined ? '' : ` of ${wordsFor(resolve(more, root), root)}`}`} />
      </legend>
      <About id={`${path}-about`} schema={schema} path={path} />
      {items.map((item, index) => (
        <div key={index} className="item">
          <Field
            name={`${index + 1}`}
            path={`${path}[${index}]`}
            schema={schemaAt(index)}
            required
            value={item ?? undefined}
            onChange={(next) => set(index, next)}
          />
          <Remove
            what={`item ${index + 1} of ${name}`}
            onPress={() => onChange(items.length === 1 && !required ? undefined : items.filter((_, at) => at !== index))}
          />
        </div>
      ))}
      {canAdd && (
        <button type="button" className="plain small" onClick={() => onChange([...items, initial(schemaAt(items.length), root) ?? null])}>
          Add {fixed.length > 0 ? `item ${items.length + 1}` : 'an item'}
        </button>
      )}
    </fieldset>
  );
}

/** A field by its title, where it has one, and always by the name it is sent under. */
function Name({ name, schema }: { name: string; schema: JsonSchema }) {
  const title = typeof schema.title === 'string' && schema.title !== name ? schema.title : undefined;
  return (
    <>
      {title && <strong>{title} </strong>}
      <code>{name}</code>
    </>
  );
}

function Facts({ schema, required, kind }: { schema: JsonSchema; required: boolean; kind?: string }) {
  const { minimum, maximum, format } = schema;
  const range =
    minimum !== undefined && maximum !== undefined
      ? `${String(minimum)} to ${String(maximum)}`
      : minimum !== undefined
        ? `at least ${String(minimum)}`
        : maximum !== undefined
          ? `at most ${String(maximum)}`
          : undefined;
  const words = kind ?? (constantsOf(schema) ? 'one of' : ((format as string | undefined) ?? typesOf(schema).join(' or ')));
  return (
    <span className="quiet">
      {[words, range, required ? undefined : schema.default !== undefined ? `default ${JSON.stringify(schema.default)}` : 'optional']
        .filter(Boolean)
        .join(' · ')}
      {required && <span className="must"> required</span>}
    </span>
  );
}

import { createContext, useContext, useId, useState, type ReactNode } from 'react';
import { Button } from 'react-aria-components';
import type { Issue, JsonSchema } from './model';
import { bytes } from './words';

export type Input = Record<string, unknown>;

interface FormContext {
  readonly root: JsonSchema;
  readonly issues: readonly Issue[];
  readonly suggest?: (name: string, typed: string) => void;
  readonly suggestions: Readonly<Record<string, readonly string[]>>;
}
const Form = createContext<FormContext>({ root: {}, issues: [], suggestions: {} });

/** A schema with its references followed and its parts put together, one level deep. */
export function resolve(schema: JsonSchema | boolean | undefined, root: JsonSchema, depth = 0): JsonSchema {
  if (schema === undefined || typeof schema === 'boolean') return {};
  if (typeof schema.$ref === 'string' && depth < 20) {
    const { $ref, ...beside } = schema;
    const found = $ref
      .replace(/^#\/?/, '')
      .split('/')
      .filter((step) => step !== '')
      .reduce<unknown>(
        (at, step) => (at as Record<string, unknown> | undefined)?.[decodeURIComponent(step).replaceAll('~1', '/').replaceAll('~0', '~')],
        root,
      );
    return resolve({ ...(found as JsonSchema | undefined), ...beside }, root, depth + 1);
  }
  if (Array.isArray(schema.allOf) && depth < 20) {
    const { allOf, ...own } = schema;
    const parts = (allOf as JsonSchema[]).map((part) => resolve(part, root, depth + 1));
    return [...parts, own].reduce((all: JsonSchema, part) => ({
      ...all,
      ...part,
      ...((all.properties ?? part.properties) !== undefined && {
        properties: { ...(all.properties as object), ...(part.properties as object) },
      }),
      ...((all.required ?? part.required) !== undefined && {
        required: [...((all.required as string[] | undefined) ?? []), ...((part.required as string[] | undefined) ?? [])],
      }),
    }));
  }
  return schema;
}

const typesOf = (schema: JsonSchema): string[] => ([schema.type].flat() as (string | undefined)[]).filter((type) => type !== undefined);
const typeOf = (schema: JsonSchema) =>
  typesOf(schema).find((type) => type !== 'null') ??
  (schema.properties !== undefined ? 'object' : schema.items !== undefined ? 'array' : undefined);

/** The variants of a union: each a schema with words for it. */
function variantsOf(schema: JsonSchema, root: JsonSchema): { readonly words: string; readonly schema: JsonSchema }[] {
  const listed = (schema.anyOf ?? schema.oneOf) as JsonSchema[] | undefined;
  if (Array.isArray(listed) && !constantsOf(schema)) {
    // A default belongs to the union as a whole, not to each of its variants.
    const { anyOf: _a, oneOf: _o, default: _d, title: _t, examples: _e, ...shared } = schema;
    return listed.map((each) => {
      const part = resolve({ ...shared, ...resolve(each, root) }, root);
      return { words: wordsFor(part, root), schema: part };
    });
  }
  const types = typesOf(schema);
  if (types.length > 1 && !Array.isArray(schema.enum)) {
    const { default: _d, ...shared } = schema;
    return types.map((type) => ({ words: type === 'null' ? 'nothing (null)' : type, schema: { ...shared, type } }));
  }
  return [];
}

function wordsFor(schema: JsonSchema, root: JsonSchema): string {
  if (typeof schema.title === 'string') return schema.title;
  if (schema.const !== undefined) return JSON.stringify(schema.const);
  const marked = Object.entries((schema.properties ?? {}) as Record<string, JsonSchema>).find(
    ([, each]) => resolve(each, root).const !== undefined,
  );
  if (marked !== undefined) return `${marked[0]}: ${String(resolve(marked[1], root).const)}`;
  if (typeOf(schema) === 'array') return `list of ${wordsFor(resolve(schema.items as JsonSchema, root), root)}`;
  return (
    (schema.format as string | undefined) ??
    (typesOf(schema).includes('null') && typesOf(schema).length === 1 ? 'nothing (null)' : (typeOf(schema) ?? 'anything'))
  );
}

/** A choice among fixed values, with the words for each. */
function constantsOf(schema: JsonSchema): { readonly value: unknown; readonly words: string }[] | undefined {
  const show = (value: unknown) => (typeof value === 'string' ? value : JSON.stringify(value));
  if (Array.isArray(schema.enum)) {
    const names = schema.enumNames as string[] | undefined;
    return (schema.enum as unknown[]).map((value, index) => ({ value, words: names?.[index] ?? show(value) }));
  }
  const listed = (schema.oneOf ?? schema.anyOf) as JsonSchema[] | undefined;
  if (Array.isArray(listed) && listed.length > 0 && listed.every((each) => each.const !== undefined))
    return listed.map(({ const: value, title }) => ({
      value,
      words: typeof title === 'string' ? `${title} (${show(value)})` : show(value),
    }));
  return undefined;
}

function fits(value: unknown, schema: JsonSchema, root: JsonSchema): boolean {
  const resolved = resolve(schema, root);
  if (resolved.const !== undefined) return value === resolved.const;
  const type = typesOf(resolved)[0] ?? typeOf(resolved);
  if (value === null) return type === 'null';
  if (Array.isArray(value)) return type === 'array';
  if (typeof value !== 'object') return type === typeof value || (type === 'integer' && typeof value === 'number') || type === undefined;
  if (type !== 'object') return false;
  return Object.entries((resolved.properties ?? {}) as Record<string, JsonSchema>).every(([key, each]) => {
    const constant = resolve(each, root).const;
    return constant === undefined || (value as Input)[key] === constant;
  });
}

/** What a value of a schema starts as: its default, its constant, the fixed parts of an object. */
function initial(schema: JsonSchema, root: JsonSchema): unknown {
  const resolved = resolve(schema, root);
  if (resolved.default !== undefined) return resolved.default;
  if (resolved.const !== undefined) return resolved.const;
  switch (typesOf(resolved)[0] ?? typeOf(resolved)) {
    case 'object':
      return initialInput(resolved, root);
    case 'array':
      return [];
    case 'null':
      return null;
    case 'boolean':
      return false;
    default:
      return undefined;
  }
}

/** The input a form starts with: defaults and constants of what is required. */
export function initialInput(schema: JsonSchema, root: JsonSchema = schema): Input {
  const input: Input = {};
  const resolved = resolve(schema, root);
  const required = new Set((resolved.required ?? []) as string[]);
  for (const [name, property] of Object.entries((resolved.properties ?? {}) as Record<string, JsonSchema>)) {
    const { default: given, const: fixed } = resolve(property, root);
    if (given !== undefined) input[name] = given;
    else if (fixed !== undefined && required.has(name)) input[name] = fixed;
  }
  return input;
}

export interface SchemaFormProps {
  readonly schema: JsonSchema;
  readonly value: Input;
  readonly onChange: (value: Input) => void;
  readonly issues?: readonly Issue[];
  /** Asks for suggestions while a text is typed. */
  readonly suggest?: (name: string, typed: string) => void;
  readonly suggestions?: Readonly<Record<string, readonly string[]>>;
  readonly empty?: string;
}

/** A form for any JSON Schema. What it has no field for is written as JSON, in its place. */
export function SchemaForm({ schema, value, onChange, issues = [], suggest, suggestions = {}, empty }: SchemaFormProps) {
  return (
    <Form.Provider value={{ root: schema, issues, suggestions, ...(suggest && { suggest }) }}>
      <Fields schema={schema} value={value} onChange={onChange} path="" empty={empty ?? 'It takes no input.'} />
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
        <Button className="plain small" isDisabled={name === '' || name in value} onPress={add}>
          Add field
        </Button>
      </div>
    </div>
  );
}

function Remove({ what, onPress }: { what: string; onPress: () => void }) {
  return (
    <Button className="plain small remove" aria-label={`Remove ${what}`} onPress={onPress}>
      ×
    </Button>
  );
}

interface FieldProps {
  readonly name: string;
  readonly path: string;
  readonly schema: JsonSchema;
  readonly required: boolean;
  readonly value: unknown;
  readonly onChange: (value: unknown) => void;
}

function Field({ schema: given, ...props }: FieldProps) {
  const { name, path, required, value, onChange } = props;
  const { root } = useContext(Form);
  const id = useId();
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
      <div className="field union">
        <label htmlFor={id}>
          <code>{name}</code> <Facts schema={{ ...schema, type: undefined }} required={required} kind="one of these" />
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
          <option value="">{required ? 'choose…' : 'leave out'}</option>
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
            <code>{name}</code> <Facts schema={schema} required={required} />
          </span>
          <Button className="plain small" onPress={() => onChange(initial(schema, root) ?? {})}>
            Add {name}
          </Button>
          <About id={`${id}-about`} schema={schema} path={path} />
        </div>
      );
    }
    return (
      <fieldset className="nested">
        <legend>
          <code>{name}</code> <Facts schema={schema} required={required} />
        </legend>
        {!required && <Remove what={name} onPress={() => onChange(undefined)} />}
        <About id={`${id}-about`} schema={schema} path={path} />
        <Fields schema={schema} value={(value ?? {}) as Input} onChange={onChange} path={path} empty="An object without fields." />
      </fieldset>
    );
  }
  if (type === 'array') return <List {...props} schema={schema} />;
  return (
    <div className="field">
      <label htmlFor={id}>
        <code>{name}</code> <Facts schema={schema} required={required} />
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
  const { issues } = useContext(Form);
  return issues
    .filter((issue) => issue.path === path)
    .map((issue, index) => (
      <p key={index} className="wrong">
        {issue.expected}
        {issue.got !== 'nothing' && `; got ${issue.got}`}
      </p>
    ));
}

function List({ name, path, schema, required, value, onChange }: FieldProps) {
  const { root } = useContext(Form);
  const fixed = (schema.prefixItems ?? []) as JsonSchema[];
  const items = (value ?? []) as unknown[];
  const more = schema.items === false ? undefined : (schema.items as JsonSchema | undefined);
  const schemaAt = (index: number) => fixed[index] ?? more ?? {};
  const canAdd =
    items.length < fixed.length || (schema.items !== false && items.length < ((schema.maxItems as number | undefined) ?? Infinity));
  const set = (index: number, next: unknown) => onChange(items.map((item, at) => (at === index ? (next ?? null) : item)));
  return (
    <fieldset className="nested list">
      <legend>
        <code>{name}</code>{' '}
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
        <Button className="plain small" onPress={() => onChange([...items, initial(schemaAt(items.length), root) ?? null])}>
          Add {fixed.length > 0 ? `item ${items.length + 1}` : 'an item'}
        </Button>
      )}
    </fieldset>
  );
}

interface ControlProps extends FieldProps {
  readonly id: string;
  readonly type: string | undefined;
}

const inputTypes: Record<string, string> = { date: 'date', time: 'time', email: 'email', uri: 'url', url: 'url' };

function Control({ id, name, path, schema, type, required, value, onChange }: ControlProps): ReactNode {
  const { issues, suggest, suggestions } = useContext(Form);
  const common = {
    id,
    name,
    'aria-describedby': `${id}-about`,
    'aria-required': required,
    'aria-invalid': issues.some((issue) => issue.path === path),
  };
  const constants = constantsOf(schema);
  if (constants !== undefined) {
    const at = constants.findIndex((each) => each.value === value);
    return (
      <select
        {...common}
        value={at < 0 ? '' : at}
        onChange={(event) => onChange(event.target.value === '' ? undefined : constants[Number(event.target.value)]!.value)}
      >
        {(!required || at < 0) && <option value="">{required ? 'choose…' : 'leave out'}</option>}
        {constants.map(({ words }, index) => (
          <option key={index} value={index}>
            {words}
          </option>
        ))}
      </select>
    );
  }
  if (schema.const !== undefined) {
    return (
      <label className="tick">
        <input
          {...common}
          type="checkbox"
          checked={value === schema.const}
          onChange={(event) => onChange(event.target.checked ? schema.const : undefined)}
        />{' '}
        always <code>{JSON.stringify(schema.const)}</code>
      </label>
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
        placeholder={exampleOf(schema)}
        onChange={(event) => onChange(event.target.value === '' ? undefined : Number(event.target.value))}
      />
    );
  }
  if (type === 'string') {
    if (schema.contentEncoding === 'base64' || schema.format === 'byte' || schema.format === 'binary')
      return <FileField {...common} value={value as string | undefined} onChange={onChange} />;
    const text = typeof value === 'string' ? value : '';
    const change = (next: string) => {
      suggest?.(name, next);
      onChange(next === '' && !required ? undefined : next);
    };
    const isLong = text.includes('\n') || text.length > 90 || ((schema.maxLength as number | undefined) ?? 0) > 200;
    if (isLong) return <textarea {...common} rows={4} value={text} onChange={(event) => change(event.target.value)} />;
    const options = suggestions[name] ?? [];
    return (
      <>
        <input
          {...common}
          type={inputTypes[schema.format as string] ?? 'text'}
          value={text}
          list={options.length > 0 ? `${id}-options` : undefined}
          placeholder={exampleOf(schema)}
          onFocus={() => suggest?.(name, text)}
          onChange={(event) => change(event.target.value)}
        />
        {options.length > 0 && (
          <datalist id={`${id}-options`}>
            {options.map((option) => (
              <option key={option} value={option} />
            ))}
          </datalist>
        )}
      </>
    );
  }
  return <JsonField {...common} value={value} onChange={onChange} placeholder="JSON" />;
}

function FileField({ value, onChange, ...common }: { value: string | undefined; onChange: (value: unknown) => void; id: string }) {
  const [name, setName] = useState<string>();
  const take = async (file: File | undefined) => {
    if (file === undefined) return onChange(undefined);
    setName(file.name);
    const data = await new Promise<string>((done, failed) => {
      const reader = new FileReader();
      reader.onload = () => done(String(reader.result));
      reader.onerror = () => failed(reader.error ?? new Error('The file could not be read.'));
      reader.readAsDataURL(file);
    });
    onChange(data.slice(data.indexOf(',') + 1));
  };
  return (
    <span className="file">
      <input {...common} type="file" onChange={(event) => void take(event.target.files?.[0])} />
      {value !== undefined && (
        <span className="quiet">
          {name ?? 'given'}, {bytes(Math.floor((value.length * 3) / 4))}
        </span>
      )}
    </span>
  );
}

function exampleOf(schema: JsonSchema): string | undefined {
  const [example] = (schema.examples as unknown[] | undefined) ?? [];
  if (example !== undefined) return typeof example === 'string' ? example : JSON.stringify(example);
  return schema.format === 'date-time' ? '2026-06-01T00:00:00Z' : undefined;
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
      {[
        schema.title as string | undefined,
        words,
        range,
        required ? undefined : schema.default !== undefined ? `default ${JSON.stringify(schema.default)}` : 'optional',
      ]
        .filter(Boolean)
        .join(' · ')}
      {required && <span className="must"> required</span>}
    </span>
  );
}

interface JsonFieldProps {
  readonly value: unknown;
  readonly onChange: (value: unknown) => void;
  /** Told whether the text is JSON at all. */
  readonly onWrong?: (wrong: boolean) => void;
  readonly placeholder?: string;
  readonly id?: string;
  readonly rows?: number;
  readonly label?: string;
}

/** JSON as text. What cannot be read yet is kept as it is typed, and said. */
export function JsonField({ value, onChange, onWrong, label, rows = 3, ...rest }: JsonFieldProps) {
  const [text, setText] = useState(() => (value === undefined ? '' : JSON.stringify(value, null, 2)));
  const [wrong, setWrong] = useState<string>();
  const tell = (why: string | undefined) => {
    setWrong(why);
    onWrong?.(why !== undefined);
  };
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
            tell(undefined);
            return onChange(undefined);
          }
          try {
            onChange(JSON.parse(next));
            tell(undefined);
          } catch (error) {
            tell((error as Error).message);
          }
        }}
      />
      {wrong !== undefined && <p className="wrong">Not JSON yet: {wrong}</p>}
    </>
  );
}

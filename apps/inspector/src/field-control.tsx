import { useContext, useState, type ReactNode } from 'react';
import { Form, useShownIssues, type FieldProps } from './form-context';
import { JsonField } from './json-field';
import { constantsOf, exampleOf } from './schema-shapes';
import { bytes } from './words';

interface ControlProps extends FieldProps {
  readonly id: string;
  readonly type: string | undefined;
}

const inputTypes: Record<string, string> = { date: 'date', time: 'time', email: 'email', uri: 'url', url: 'url' };

/** The one input, list of choices or file field that fits a schema. */
// eslint-disable-next-line max-lines-per-function -- one branch for each kind of field
export function Control({ id, name, path, schema, type, required, value, onChange }: ControlProps): ReactNode {
  const { suggest, suggestions } = useContext(Form);
  const isWrong = useShownIssues(path).length > 0;
  const common = {
    id,
    name,
    'aria-describedby': `${id}-about`,
    'aria-required': required,
    'aria-invalid': isWrong,
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
        {(!required || at < 0) && <option value="">{required ? 'choose…' : 'none'}</option>}
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
        {value === undefined ? 'not set' : String(value)}
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

import { useEffect, useId, useState } from 'react';
import { Button } from 'react-aria-components';
import { copyCall, keepCall, listSheets, troubleOf } from './api';
import type { CallSheet, ConnectionState, CopyForm, ShelfItem, Trouble } from './model';
import type { Input } from './schema-shapes';
import { keep } from './store';
import { TroubleNote } from './trouble-note';

const forms: readonly (readonly [CopyForm, string])[] = [
  ['command', 'a command'],
  ['typescript', 'TypeScript'],
  ['http', 'HTTP requests'],
];

/** Copies what lies on the bench, with the arguments as they are, to be pasted elsewhere. */
export function CopyAs({ connection, item, input }: { connection: ConnectionState['id']; item: ShelfItem; input: Input }) {
  const [said, setSaid] = useState('Copy as');
  const copy = async (form: CopyForm) => {
    const kind = item.kind === 'template' ? 'resource' : item.kind;
    const name = item.kind === 'template' ? expandPlainly(item.key, input) : item.key;
    const { text } = await copyCall({ connection, kind, name, input: item.kind === 'tool' || item.kind === 'prompt' ? input : {}, form });
    await navigator.clipboard.writeText(text);
  };
  return (
    <select
      className="plain small"
      aria-label="Copy this call as"
      value=""
      onChange={(event) =>
        void copy(event.target.value as CopyForm).then(
          () => setSaid('Copied'),
          () => setSaid('Not copied'),
        )
      }
    >
      <option value="" disabled>
        {said}
      </option>
      {forms.map(([form, words]) => (
        <option key={form} value={form}>
          {words}
        </option>
      ))}
    </select>
  );
}

/** Variables that stand alone, which nearly all are; the rest stays for the person to fill in. */
function expandPlainly(template: string, input: Input): string {
  return template.replaceAll(/\{(\w+)\}/g, (whole, name: string) =>
    input[name] === undefined ? whole : encodeURIComponent(String(input[name])),
  );
}

/** Puts a call and its answer on a call sheet. */
export function KeepOnSheet({ call }: { call: CallSheet }) {
  const [open, setOpen] = useState(false);
  const [names, setNames] = useState<readonly string[]>([]);
  const [name, setName] = useState('');
  const [label, setLabel] = useState('');
  const [kept, setKept] = useState<string>();
  const [trouble, setTrouble] = useState<Trouble>();
  const listed = useId();
  useEffect(() => {
    if (!open) return;
    listSheets().then(
      (found) => {
        const own = found.filter(({ kind }) => kind === 'calls').map((each) => each.name);
        setNames(own);
        setName((before) => before || own[0] || 'bench.calls.yaml');
      },
      (error: unknown) => setTrouble(troubleOf(error)),
    );
  }, [open]);
  if (kept !== undefined)
    return (
      <p className="quiet kept" role="status">
        Kept on{' '}
        <Button className="link" onPress={() => keep({ place: 'sheets', sheet: kept })}>
          {kept}
        </Button>
      </p>
    );
  if (!open)
    return (
      <p>
        <Button className="plain small" onPress={() => setOpen(true)}>
          Keep on a call sheet
        </Button>
      </p>
    );
  return (
    <form
      className="keep-form"
      onSubmit={(event) => {
        event.preventDefault();
        keepCall(call.id, name, label).then(
          () => setKept(name),
          (error: unknown) => setTrouble(troubleOf(error)),
        );
      }}
    >
      <label className="field">
        <span className="label">Call sheet</span>
        <input type="text" required list={listed} value={name} onChange={(event) => setName(event.target.value)} />
        <datalist id={listed}>
          {names.map((each) => (
            <option key={each} value={each} />
          ))}
        </datalist>
      </label>
      <label className="field">
        <span className="label">What this call shows</span>
        <input type="text" value={label} placeholder={call.name} onChange={(event) => setLabel(event.target.value)} />
      </label>
      <span className="segments">
        <Button type="submit" className="primary">
          Keep
        </Button>
        <Button className="plain" onPress={() => setOpen(false)}>
          Close
        </Button>
      </span>
      {trouble && <TroubleNote trouble={trouble} />}
    </form>
  );
}

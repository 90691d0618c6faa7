import { useState } from 'react';

/** JSON as a tree that opens where it is touched. */
export function JsonTree({ value, name, depth = 0 }: { value: unknown; name?: string; depth?: number }) {
  const [open, setOpen] = useState(depth < 2);
  const label = name === undefined ? null : <span className="key">{name}: </span>;
  if (typeof value !== 'object' || value === null) {
    return (
      <div className="leaf">
        {label}
        <span className={`value ${value === null ? 'null' : typeof value}`}>{JSON.stringify(value)}</span>
      </div>
    );
  }
  const entries = Array.isArray(value) ? value.map((item, index) => [String(index), item] as const) : Object.entries(value);
  const words = Array.isArray(value) ? `[${entries.length}]` : `{${entries.length}}`;
  if (entries.length === 0) {
    return (
      <div className="leaf">
        {label}
        {Array.isArray(value) ? '[]' : '{}'}
      </div>
    );
  }
  return (
    <details className="branch" open={open} onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>
        {label}
        <span className="quiet">{words}</span>
      </summary>
      {open && <Part entries={entries} depth={depth} />}
    </details>
  );
}

const firstShown = 100;

function Part({ entries, depth }: { entries: readonly (readonly [string, unknown])[]; depth: number }) {
  const [shown, setShown] = useState(firstShown);
  return (
    <div className="inside">
      {entries.slice(0, shown).map(([key, item]) => (
        <JsonTree key={key} name={key} value={item} depth={depth + 1} />
      ))}
      {entries.length > shown && (
        <button type="button" className="plain small" onClick={() => setShown(shown + 10 * firstShown)}>
          {entries.length - shown} more
        </button>
      )}
    </div>
  );
}

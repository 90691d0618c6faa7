import { useEffect, useMemo, useRef, useState } from 'react';
import { Button, Input, Label, SearchField } from 'react-aria-components';
import { traceFile } from './api';
import type { WireEntry } from './model';
import { useStore } from './store';
import { bytes, duration } from './words';

type Lane = 'sent' | 'back' | 'asked';
interface Row {
  readonly entry: WireEntry;
  readonly lane: Lane;
  readonly title: string;
  readonly failed: boolean;
  /** For an answer: milliseconds since its request, and how many rows back that is. */
  readonly took?: number;
  readonly tiedTo?: number;
}

interface Envelope {
  readonly id?: string | number;
  readonly method?: string;
  readonly result?: { readonly isError?: boolean };
  readonly error?: { readonly message?: string };
  readonly params?: { readonly name?: string };
}

const laneWords: Record<Lane, { readonly arrow: string; readonly words: string }> = {
  sent: { arrow: '→', words: 'what we sent' },
  back: { arrow: '←', words: 'what came back' },
  asked: { arrow: '↩', words: 'what the server asked or told us' },
};

/** Puts every message into its lane and ties answers to their requests. */
function readRows(wire: readonly WireEntry[]): Row[] {
  const open = new Map<string, { entry: WireEntry; index: number; subject: string }>();
  return wire.map((entry, index) => {
    const message = (typeof entry.message === 'object' && entry.message !== null ? entry.message : {}) as Envelope;
    if (message.method !== undefined) {
      const lane = entry.way === 'sent' ? 'sent' : 'asked';
      const name = message.params?.name;
      if (message.id !== undefined)
        open.set(`${entry.way} ${typeof message.id} ${message.id}`, { entry, index, subject: name ?? message.method });
      return { entry, lane, title: name === undefined ? message.method : `${message.method} ${name}`, failed: false };
    }
    const back = entry.way === 'received';
    const request = open.get(`${back ? 'sent' : 'received'} ${typeof message.id} ${String(message.id)}`);
    const failed = message.error !== undefined || message.result?.isError === true;
    const title =
      message.error !== undefined
        ? `error: ${message.error.message ?? ''}`
        : request === undefined
          ? typeof entry.message === 'string'
            ? entry.message
            : 'answer'
          : `answer: ${request.subject}`;
    return {
      entry,
      lane: back ? 'back' : 'sent',
      title,
      failed,
      ...(request && { took: entry.at - request.entry.at, tiedTo: request.index }),
    };
  });
}

const rowHeight = 30;

/** Every message that passed, time running down, in three lanes; a bracket ties a request to its answer. */
export function Trace() {
  const wire = useStore((store) => store.wire);
  const rows = useMemo(() => readRows(wire), [wire]);
  const [words, setWords] = useState('');
  const [open, setOpen] = useState<number>();
  const list = useRef<HTMLOListElement>(null);
  const follow = useRef(true);
  const start = wire[0]?.at ?? 0;
  const longest = Math.max(1, ...rows.map((row) => row.took ?? 0));
  const shown =
    words === ''
      ? rows
      : rows.filter((row) => `${row.title} ${JSON.stringify(row.entry.message)}`.toLowerCase().includes(words.toLowerCase()));

  useEffect(() => {
    if (follow.current && list.current) list.current.scrollTop = list.current.scrollHeight;
  }, [shown.length]);

  return (
    <aside className="trace" aria-label="Trace: every message">
      <div className="trace-head">
        <h2>Trace</h2>
        <SearchField className="search" value={words} onChange={setWords}>
          <Label className="unseen">Search the trace</Label>
          <Input placeholder="Search the trace" />
        </SearchField>
        <Button className="plain small" isDisabled={wire.length === 0} onPress={() => void save()}>
          Save
        </Button>
      </div>
      <ul className="legend quiet" aria-label="Lanes">
        <li>→ we sent</li>
        <li>← came back</li>
        <li>↩ asked of us</li>
      </ul>
      <ol
        className="messages"
        ref={list}
        onScroll={({ currentTarget: box }) => {
          follow.current = box.scrollHeight - box.scrollTop - box.clientHeight < rowHeight;
        }}
      >
        {shown.length === 0 && (
          <li className="empty">
            {wire.length === 0 ? 'Nothing has passed yet. Call a tool to see its messages here.' : 'No message holds these words.'}
          </li>
        )}
        {shown.map((row) => (
          <Message
            key={row.entry.seq}
            row={row}
            start={start}
            longest={longest}
            tied={words === '' && row.tiedTo !== undefined ? rows.indexOf(row) - row.tiedTo : undefined}
            open={open === row.entry.seq}
            onToggle={() => setOpen(open === row.entry.seq ? undefined : row.entry.seq)}
          />
        ))}
      </ol>
    </aside>
  );
}

async function save(): Promise<void> {
  const url = URL.createObjectURL(await traceFile());
  const link = Object.assign(document.createElement('a'), { href: url, download: 'trace.jsonl' });
  link.click();
  URL.revokeObjectURL(url);
}

function Message({
  row,
  start,
  longest,
  tied,
  open,
  onToggle,
}: {
  row: Row;
  start: number;
  longest: number;
  tied: number | undefined;
  open: boolean;
  onToggle: () => void;
}) {
  const { entry, lane, title, failed, took } = row;
  const { arrow, words } = laneWords[lane];
  return (
    <li className={`message ${lane} ${failed ? 'failed' : ''}`}>
      <button
        type="button"
        className="line"
        aria-expanded={open}
        onClick={onToggle}
        aria-label={`${words}: ${title}${took === undefined ? '' : `, after ${duration(took)}`}`}
      >
        <span className="when quiet">{((entry.at - start) / 1000).toFixed(3)}</span>
        <span className="lanes" aria-hidden="true">
          {tied !== undefined && tied < 40 && <span className="bracket" style={{ height: tied * rowHeight }} />}
          <span className="arrow">{arrow}</span>
        </span>
        <span className="title">{title}</span>
        {took !== undefined && (
          <span className="took quiet">
            <span className="bar" style={{ width: Math.max(2, (took / longest) * 36) }} />
            {duration(took)}
          </span>
        )}
      </button>
      {open && (
        <div className="detail">
          <p className="quiet">
            {words} · {new Date(entry.at).toLocaleTimeString()} · {bytes(entry.bytes)}
            {entry.note && ` · ${entry.note}`}
          </p>
          <pre>{typeof entry.message === 'string' ? entry.message : JSON.stringify(entry.message, null, 2)}</pre>
        </div>
      )}
    </li>
  );
}

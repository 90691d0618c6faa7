import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useMemo, useRef, useState } from 'react';
import { Button, Input, Label, SearchField } from 'react-aria-components';
import { importTrace, traceFile, troubleOf } from './api';
import type { ConnectionState, Trouble } from './model';
import { keep, traceBook, useStore } from './store';
import { isSignIn, type Lane, type TraceRow } from './trace-rows';
import { TroubleNote } from './trouble-note';
import { bytes, duration } from './words';

const laneWords: Record<Lane, { readonly arrow: string; readonly words: string }> = {
  sent: { arrow: '→', words: 'what we sent' },
  back: { arrow: '←', words: 'what came back' },
  asked: { arrow: '↩', words: 'what the server asked of us' },
  view: { arrow: '▢', words: 'what passed between a view and this page' },
};
const rowHeight = 30;

/** Every message that passed, time running down, in three lanes; a bracket ties a request to its answer. */
// eslint-disable-next-line max-lines-per-function -- the markup of one place
export function Trace({ connection }: { connection: ConnectionState }) {
  const all = useStore((store) => store.rows);
  const [words, setWords] = useState('');
  const [lane, setLane] = useState<Lane | 'wrong' | 'all'>('all');
  const [open, setOpen] = useState<number>();
  const [trouble, setTrouble] = useState<Trouble>();
  const own = useMemo(() => all.filter(({ entry }) => entry.connection === connection.id), [all, connection.id]);
  const shown = useMemo(() => {
    const wanted = words.toLowerCase();
    if (wanted === '' && lane === 'all') return own;
    return own.filter(
      (row) =>
        (lane === 'all' || (lane === 'wrong' ? row.entry.wrong !== undefined : row.lane === lane)) &&
        (wanted === '' || traceBook.textOf(row).includes(wanted)),
    );
  }, [own, words, lane]);
  const whole = shown === own;
  const places = useMemo(() => (whole ? new Map(own.map((row, index) => [row.entry.seq, index])) : undefined), [own, whole]);
  const brackets = useMemo(() => (places === undefined ? [] : bracketsOf(own, places)), [own, places]);
  const list = useRef<HTMLDivElement>(null);
  const follow = useRef(true);
  const virtual = useVirtualizer({
    count: shown.length,
    getScrollElement: () => list.current,
    estimateSize: () => rowHeight,
    overscan: 12,
  });
  const start = own[0]?.entry.at ?? 0;
  const hasViews = own.some((row) => row.lane === 'view');
  const wrong = own.reduce((count, row) => count + (row.entry.wrong === undefined ? 0 : 1), 0);
  const opened = open === undefined ? undefined : shown.find(({ entry }) => entry.seq === open);

  useEffect(() => {
    if (follow.current && shown.length > 0) virtual.scrollToIndex(shown.length - 1, { align: 'end' });
  }, [shown.length, virtual]);

  // What was opened stays in view, although its message takes room from the list.
  const openedAt = opened === undefined ? -1 : shown.indexOf(opened);
  useEffect(() => {
    if (openedAt >= 0) virtual.scrollToIndex(openedAt, { align: 'auto' });
  }, [openedAt, virtual]);

  const take = async (file: File | undefined) => {
    if (file === undefined) return;
    setTrouble(undefined);
    try {
      keep({ active: (await importTrace(file.name, await file.text())).id });
    } catch (error) {
      setTrouble(troubleOf(error));
    }
  };

  const first = virtual.getVirtualItems()[0]?.index ?? 0;
  const last = virtual.getVirtualItems().at(-1)?.index ?? 0;
  return (
    <aside className={`trace ${hasViews ? 'has-views' : ''}`} aria-label="Trace: every message">
      <div className="trace-head">
        <h2>Trace</h2>
        <SearchField className="search" value={words} onChange={setWords}>
          <Label className="unseen">Search the trace</Label>
          <Input placeholder="Search the trace" />
        </SearchField>
        <Button className="plain small" isDisabled={own.length === 0} onPress={() => void save(connection)}>
          Save
        </Button>
        <label className="plain small load">
          Load
          <input type="file" className="unseen" accept=".jsonl,.json,.log" onChange={(event) => void take(event.target.files?.[0])} />
        </label>
      </div>
      <div className="legend">
        <div className="segments" role="group" aria-label="Show only">
          {(['sent', 'back', 'asked', ...(hasViews ? (['view'] as const) : [])] as const).map((each) => (
            <Button
              key={each}
              className="plain small"
              aria-pressed={lane === each}
              aria-label={`Only ${laneWords[each].words}`}
              onPress={() => setLane(lane === each ? 'all' : each)}
            >
              {laneWords[each].arrow} {{ sent: 'sent', back: 'came back', asked: 'asked', view: 'view' }[each]}
            </Button>
          ))}
          {wrong > 0 && (
            <Button
              className="plain small is-wrong"
              aria-pressed={lane === 'wrong'}
              onPress={() => setLane(lane === 'wrong' ? 'all' : 'wrong')}
            >
              ! {wrong} invalid
            </Button>
          )}
        </div>
        <span className="quiet count">{shown.length.toLocaleString('en')}</span>
      </div>
      {trouble && <TroubleNote trouble={trouble} />}
      <div
        className="messages"
        ref={list}
        tabIndex={0}
        role="region"
        aria-label="Messages"
        onScroll={({ currentTarget: box }) => {
          follow.current = box.scrollHeight - box.scrollTop - box.clientHeight < rowHeight;
        }}
      >
        {shown.length === 0 && (
          <p className="empty">
            {own.length === 0
              ? 'Nothing has passed yet. Call a tool to see its messages here.'
              : 'No message fits. Clear the search and the filter to see all.'}
          </p>
        )}
        <ol style={{ height: virtual.getTotalSize() }} className="all">
          {brackets
            .filter(({ from, to }) => to >= first && from <= last)
            .map(({ from, to, gutter }) => (
              <li
                key={`${from} ${to}`}
                role="presentation"
                aria-hidden="true"
                className="bracket"
                style={{
                  top: from * rowHeight + rowHeight / 2,
                  height: (to - from) * rowHeight,
                  left: bracketsFrom + gutter * gutterWidth,
                  width: bracketsTo - gutter * gutterWidth,
                }}
              />
            ))}
          {virtual.getVirtualItems().map(({ index, start: top }) => {
            const row = shown[index]!;
            return (
              <MessageRow
                key={row.entry.seq}
                row={row}
                top={top}
                at={row.entry.at - start}
                open={open === row.entry.seq}
                onToggle={() => setOpen(open === row.entry.seq ? undefined : row.entry.seq)}
              />
            );
          })}
        </ol>
      </div>
      {opened && <Detail row={opened} revision={connection.server?.protocolVersion} onClose={() => setOpen(undefined)} />}
    </aside>
  );
}

const bracketsFrom = 4;
const bracketsTo = 20;
const gutterWidth = 5;
const gutters = 3;
/** Brackets longer than this say nothing any more. */
const longestBracket = 60;

interface Bracket {
  readonly from: number;
  readonly to: number;
  readonly gutter: number;
}

/** Ties every answer to its request; those that overlap stand in gutters of their own. */
function bracketsOf(rows: readonly TraceRow[], places: ReadonlyMap<number, number>): Bracket[] {
  const found: Bracket[] = [];
  const ends: number[] = [];
  const tied = rows
    .flatMap(({ tiedTo }, to) => {
      const from = tiedTo === undefined ? undefined : places.get(tiedTo);
      return from === undefined || to - from > longestBracket ? [] : [{ from, to }];
    })
    .sort((a, b) => a.from - b.from);
  for (const { from, to } of tied) {
    const free = ends.findIndex((end) => end < from);
    const gutter = free >= 0 ? free : ends.length < gutters ? ends.length : gutters - 1;
    ends[gutter] = Math.max(ends[gutter] ?? 0, to);
    found.push({ from, to, gutter });
  }
  return found;
}

async function save(connection: ConnectionState): Promise<void> {
  const url = URL.createObjectURL(await traceFile(connection.id));
  const link = Object.assign(document.createElement('a'), { href: url, download: 'trace.jsonl' });
  link.click();
  URL.revokeObjectURL(url);
}

function MessageRow({ row, top, at, open, onToggle }: { row: TraceRow; top: number; at: number; open: boolean; onToggle: () => void }) {
  const { entry, lane, title, failed, took } = row;
  const { arrow, words } = laneWords[lane];
  return (
    <li className={`message ${lane} ${failed ? 'failed' : ''}`} style={{ top }}>
      <button
        type="button"
        className="line"
        aria-expanded={open}
        onClick={onToggle}
        aria-label={`${words}: ${title}${took === undefined ? '' : `, after ${duration(took)}`}${entry.wrong === undefined ? '' : ', invalid'}`}
      >
        <span className="lanes" aria-hidden="true">
          <span className="arrow">{arrow}</span>
        </span>
        <span className="when quiet">{(at / 1000).toFixed(3)}</span>
        <span className="title">
          {entry.wrong !== undefined && <span className="wrong-mark">! </span>}
          {title}
        </span>
        {took !== undefined && (
          <span className="took quiet">
            <span className="bar" style={{ width: Math.max(2, (took / traceBook.longest) * 36) }} />
            {duration(took)}
          </span>
        )}
      </button>
    </li>
  );
}

/** A part of a sign-in's step: an object on lines of its own, other words as they are. */
function readable(line: string): string {
  if (!line.startsWith('{')) return line;
  try {
    return JSON.stringify(JSON.parse(line), null, 2);
  } catch {
    return line; // words that begin with a brace
  }
}

function Detail({ row, revision, onClose }: { row: TraceRow; revision: string | undefined; onClose: () => void }) {
  const { entry, lane } = row;
  const { http } = entry;
  return (
    <div className="detail" role="region" aria-label="One message">
      <div className="step-line">
        <p className="quiet">
          {laneWords[lane].words} · {new Date(entry.at).toLocaleTimeString('en-GB')} · {bytes(entry.bytes)}
          {entry.note && !isSignIn(entry.note) && ` · ${entry.note}`}
        </p>
        <Button className="plain small" aria-label="Close the message" onPress={onClose}>
          ×
        </Button>
      </div>
      {entry.wrong !== undefined && (
        <p className="wrong" role="alert">
          Invalid by the protocol{revision && `, ${revision}`}: {entry.wrong}
        </p>
      )}
      {http && (
        <dl className="http">
          <div>
            <dt>HTTP</dt>
            <dd>{[http.method, http.status].filter(Boolean).join(' ') || '–'}</dd>
          </div>
          {Object.entries(http.headers).map(([name, value]) => (
            <div key={name}>
              <dt>{name}</dt>
              <dd>{value}</dd>
            </div>
          ))}
        </dl>
      )}
      {isSignIn(entry.note) && entry.note!.split('\n').map((line) => <pre key={line}>{readable(line)}</pre>)}
      {entry.message !== undefined && (
        <pre>{typeof entry.message === 'string' ? entry.message : JSON.stringify(entry.message, null, 2)}</pre>
      )}
    </div>
  );
}

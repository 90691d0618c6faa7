import { useEffect, useRef, useState } from 'react';
import { Button } from 'react-aria-components';
import { listSheets, openSheet, rehearseSheet, replaySheet, saveSheet, sheetFromTrace, troubleOf, type Step } from './api';
import type { ConnectionState, OpenedSheet, Rehearsed, Replayed, SheetName, Trouble } from './model';
import { RehearsedList } from './rehearsed';
import { ReplayedList } from './replayed';
import { keep, useStore } from './store';
import { TroubleNote } from './trouble-note';
import { duration } from './words';

const noEdits = {};

/** Call sheets and request sheets: read, edited and run here, as in the terminal. */
export function SheetsPlace({ connection }: { connection: ConnectionState }) {
  const chosen = useStore((store) => store.sheet);
  const [names, setNames] = useState<readonly SheetName[]>();
  const [trouble, setTrouble] = useState<Trouble>();
  const load = () => listSheets().then(setNames, (error: unknown) => setTrouble(troubleOf(error)));
  useEffect(() => void load(), [chosen]);
  const current = names?.some(({ name }) => name === chosen) ? chosen : names?.[0]?.name;
  return (
    <main className="place sheets" aria-label="Sheets">
      <nav className="sheet" aria-label="Sheets in this folder">
        <p className="step">Sheets in this folder</p>
        {trouble && <TroubleNote trouble={trouble} />}
        <ul>
          {(names ?? []).map(({ name, kind }) => (
            <li key={name}>
              <button type="button" className="name" aria-current={name === current} onClick={() => keep({ sheet: name })}>
                {name}
              </button>
              <span className="quiet">{kind}</span>
            </li>
          ))}
        </ul>
        {names?.length === 0 && (
          <p className="quiet">
            There is none yet. Call something on the bench and keep it on a call sheet, or write a request sheet; the same in the terminal:{' '}
            <code>jexo call … --keep bench.calls.yaml</code>
          </p>
        )}
        <FromTrace connection={connection} onMade={(name) => void load().then(() => keep({ sheet: name }))} />
      </nav>
      {current !== undefined && <OpenSheet key={current} name={current} connection={connection} />}
    </main>
  );
}

function FromTrace({ connection, onMade }: { connection: ConnectionState; onMade: (name: string) => void }) {
  const [name, setName] = useState('');
  const [trouble, setTrouble] = useState<Trouble>();
  return (
    <form
      className="keep-form"
      onSubmit={(event) => {
        event.preventDefault();
        setTrouble(undefined);
        sheetFromTrace(connection.id, name).then(
          () => onMade(name),
          (error: unknown) => setTrouble(troubleOf(error)),
        );
      }}
    >
      <label className="field">
        <span className="label">A new call sheet, of all calls on the trace</span>
        <input type="text" required placeholder="today.calls.yaml" value={name} onChange={(event) => setName(event.target.value)} />
      </label>
      <Button type="submit" className="plain">
        Make it
      </Button>
      {trouble && <TroubleNote trouble={trouble} />}
    </form>
  );
}

type Result = { readonly kind: 'calls'; readonly done: Replayed } | { readonly kind: 'requests'; readonly done: Rehearsed };

// eslint-disable-next-line max-lines-per-function -- the markup of one place
function OpenSheet({ name, connection }: { name: string; connection: ConnectionState }) {
  const edits = useStore((store) => store.edits[connection.shown] ?? noEdits);
  const [sheet, setSheet] = useState<OpenedSheet>();
  const [text, setText] = useState<string>();
  const [result, setResult] = useState<Result>();
  const [running, setRunning] = useState<AbortController>();
  const [step, setStep] = useState<Step>();
  const model = useStore((store) => store.model);
  const [trouble, setTrouble] = useState<Trouble>();
  useEffect(() => {
    openSheet(name).then(setSheet, (error: unknown) => setTrouble(troubleOf(error)));
  }, [name]);
  const gone = useRef<AbortController>(undefined);
  useEffect(() => () => gone.current?.abort(), []);

  if (sheet === undefined)
    return <section className="sheet">{trouble ? <TroubleNote trouble={trouble} /> : <p className="quiet">Opening {name}…</p>}</section>;
  const take = (opened: OpenedSheet) => {
    setSheet(opened);
    setText(undefined);
  };
  const run = async ({ byModel = false, ...more }: { only?: string[]; update?: boolean; byModel?: boolean } = {}) => {
    const stop = new AbortController();
    gone.current = stop;
    setRunning(stop);
    setStep(undefined);
    setTrouble(undefined);
    try {
      if (sheet.kind === 'calls') setResult({ kind: 'calls', done: await replaySheet(connection.id, name, more, stop.signal, setStep) });
      else setResult({ kind: 'requests', done: await rehearseSheet(connection.id, name, { edits, byModel }, stop.signal, setStep) });
      if (more.update) setSheet(await openSheet(name));
    } catch (error) {
      if (!stop.signal.aborted) setTrouble(troubleOf(error));
    } finally {
      setRunning(undefined);
    }
  };
  const save = () => saveSheet(name, text ?? sheet.text).then(take, (error: unknown) => setTrouble(troubleOf(error)));
  const count = sheet.kind === 'calls' ? sheet.calls.length : sheet.requests.length;
  const differs = result?.kind === 'calls' && result.done.calls.some(({ status }) => status === 'different');
  return (
    <section className="sheet open-sheet" aria-label={name}>
      <header className="step-line">
        <div>
          <p className="step">{sheet.kind === 'calls' ? 'Call sheet' : 'Request sheet'}</p>
          <h1>{name}</h1>
        </div>
        <span className="segments">
          {running ? (
            <Button className="plain" onPress={() => running.abort()}>
              Stop
            </Button>
          ) : (
            <Button
              className="primary"
              isDisabled={sheet.issues.length > 0 || text !== undefined || count === 0}
              onPress={() => void run()}
            >
              {sheet.kind === 'calls' ? 'Replay' : 'Rehearse'}
            </Button>
          )}
          {!running && model !== undefined && sheet.kind === 'requests' && (
            <Button
              className="plain"
              isDisabled={sheet.issues.length > 0 || text !== undefined || count === 0}
              onPress={() => void run({ byModel: true })}
            >
              Rehearse with {model}
            </Button>
          )}
          {differs && !running && (
            <Button className="plain" onPress={() => void run({ update: true })}>
              Replay, and write what came
            </Button>
          )}
          {text === undefined ? (
            <Button className="plain" onPress={() => setText(sheet.text)}>
              Edit
            </Button>
          ) : (
            <>
              <Button className="primary" onPress={() => void save()}>
                Save
              </Button>
              <Button className="plain" onPress={() => setText(undefined)}>
                Revert
              </Button>
            </>
          )}
        </span>
      </header>
      {trouble && <TroubleNote trouble={trouble} />}
      {sheet.issues.length > 0 && (
        <div className="trouble" role="alert">
          <p className="what">This sheet can't be run until these lines are fixed.</p>
          <ul>
            {sheet.issues.map(({ line, message }) => (
              <li key={`${line} ${message}`}>
                line {line}: {message}
              </li>
            ))}
          </ul>
        </div>
      )}
      {text !== undefined && (
        <textarea
          className="sheet-text"
          aria-label={`The text of ${name}`}
          spellCheck={false}
          rows={24}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      )}
      {text === undefined && running && (
        <div className="run-progress">
          <p role="status">
            {sheet.kind === 'calls' ? 'Replaying on a server of its own' : 'Rehearsing'}
            {step === undefined ? '…' : `: ${step.done} of ${step.of}`}
          </p>
          <progress aria-label="Progress" max={step?.of} value={step?.done} />
        </div>
      )}
      {text === undefined && !running && result?.kind === 'calls' && (
        <ReplayedList done={result.done} onOnly={(only) => void run({ only: [only] })} />
      )}
      {text === undefined && !running && result?.kind === 'requests' && <RehearsedList done={result.done} />}
      {text === undefined && result === undefined && !running && <Contents sheet={sheet} />}
      {result && !running && text === undefined && (
        <p className="quiet">
          {result.kind === 'calls'
            ? `In ${duration(result.done.tookMs)}, on a server started for it.`
            : result.done.isStandIn
              ? 'Chosen by the stand-in, which is no model.'
              : `Chosen by ${result.done.model}.`}
        </p>
      )}
    </section>
  );
}

function Contents({ sheet }: { sheet: OpenedSheet }) {
  return (
    <ol className="contents">
      {sheet.calls.map(({ name, subject, line }) => (
        <li key={line}>
          {name} {name !== subject && <code className="quiet">{subject}</code>}
        </li>
      ))}
      {sheet.requests.map(({ say, tools, line }) => (
        <li key={line}>
          {say} <code className="quiet">{tools.join(' or ') || 'none'}</code>
        </li>
      ))}
    </ol>
  );
}

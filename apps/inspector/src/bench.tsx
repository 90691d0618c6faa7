import { useEffect, useRef, useState } from 'react';
import { Button } from 'react-aria-components';
import { BenchTrouble, cancelCall, startCall } from './api';
import { Answer } from './answer';
import type { CallSheet, Tool, Trouble } from './model';
import { initialInput, JsonField, SchemaForm, type Input } from './schema-form';
import { useStore } from './store';
import { TroubleNote } from './trouble-note';
import { duration } from './words';

/** One call, read from top to bottom: what the model reads, the arguments, what happened meanwhile, the answer. */
export function Bench({ tool }: { tool: Tool | undefined }) {
  const bench = useStore((store) => store.bench)!;
  return (
    <main className="bench" aria-label="Bench: one call">
      {bench.trouble && <TroubleNote trouble={bench.trouble} />}
      {tool === undefined ? <Nothing /> : <Sheet key={tool.name} tool={tool} />}
      <Stderr />
    </main>
  );
}

function Nothing() {
  const { status, target } = useStore((store) => store.bench)!;
  if (status !== 'connected') return null;
  return (
    <div className="empty">
      <p>{target} offers no tools yet.</p>
      <p>
        Export a function from it, then press Reconnect. To see how: <code>jexo list {target}</code>
      </p>
    </div>
  );
}

function Sheet({ tool }: { tool: Tool }) {
  const calls = useStore((store) => store.calls);
  const [input, setInput] = useState<Input>(() => initialInput(tool.inputSchema));
  const [raw, setRaw] = useState(false);
  const [trouble, setTrouble] = useState<Trouble>();
  const mine = [...calls.values()].filter((call) => call.tool === tool.name).reverse();
  const [latest, ...earlier] = mine;
  const running = latest?.status === 'running';

  const run = async () => {
    setTrouble(undefined);
    try {
      await startCall(tool.name, input);
    } catch (error) {
      setTrouble(
        error instanceof BenchTrouble
          ? error.trouble
          : { code: 'JEXO_CONNECT', message: 'The bench did not take the call.', next: 'Check that jexo inspect is still running.' },
      );
    }
  };
  const runNow = useRef(run);
  runNow.current = run;
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key !== 'Enter' || !(event.ctrlKey || event.metaKey)) return;
      event.preventDefault();
      void runNow.current();
    };
    addEventListener('keydown', onKey, true);
    return () => removeEventListener('keydown', onKey, true);
  }, []);

  const hints = Object.entries(tool.annotations ?? {}).filter(([, value]) => typeof value === 'boolean');
  return (
    <>
      <section className="sheet" aria-label={`Call ${tool.name}`}>
        <header>
          <p className="step">What the model reads</p>
          <h1>{tool.name}</h1>
          <p className="description">
            {tool.description ?? <em className="warn">No description: a model will not know when to use this tool.</em>}
          </p>
          {hints.length > 0 && (
            <p className="hints">
              {hints.map(([name, value]) => (
                <span key={name} className="hint">
                  {name.replace(/Hint$/, '')}: {value ? 'yes' : 'no'}
                </span>
              ))}
            </p>
          )}
        </header>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            void run();
          }}
          noValidate
        >
          <div className="step-line">
            <p className="step">The arguments</p>
            <Button className="plain small" aria-pressed={raw} onPress={() => setRaw(!raw)}>
              {raw ? 'As a form' : 'As JSON'}
            </Button>
          </div>
          {raw ? (
            <JsonField
              label="The arguments as JSON"
              rows={8}
              value={input}
              onChange={(next) => typeof next === 'object' && next !== null && !Array.isArray(next) && setInput(next as Input)}
            />
          ) : (
            <SchemaForm schema={tool.inputSchema} value={input} onChange={setInput} />
          )}
          <div className="actions">
            <Button type="submit" className="primary">
              Call
            </Button>
            {running && (
              <Button className="plain" onPress={() => void cancelCall(latest.id)}>
                Cancel
              </Button>
            )}
            <span className="quiet keys">
              <kbd>Ctrl</kbd> <kbd>Enter</kbd>
            </span>
          </div>
        </form>
        {trouble && <TroubleNote trouble={trouble} />}
        {latest && <Run call={latest} />}
      </section>
      {earlier.length > 0 && (
        <section className="earlier" aria-label="Earlier calls">
          {earlier.map((call) => (
            <details key={call.id}>
              <summary>
                <Outcome call={call} />
                <code className="given">{JSON.stringify(call.input)}</code>
              </summary>
              <Run call={call} />
            </details>
          ))}
        </section>
      )}
    </>
  );
}

function Outcome({ call }: { call: CallSheet }) {
  const words = { running: 'running', answered: 'answered', failed: 'failed', cancelled: 'cancelled' }[call.status];
  const mark = { running: '…', answered: '✓', failed: '✗', cancelled: '–' }[call.status];
  return (
    <span className={`outcome ${call.status}`}>
      <span aria-hidden="true">{mark}</span> {words}
      {call.tookMs !== undefined && ` in ${duration(call.tookMs)}`}
    </span>
  );
}

function Run({ call }: { call: CallSheet }) {
  const last = call.events.findLast((event) => event.kind === 'progress');
  return (
    <div className="run" aria-live="polite">
      <div className="step-line">
        <p className="step">{call.status === 'running' ? 'What is happening' : 'The answer'}</p>
        <Outcome call={call} />
      </div>
      {call.status === 'running' && last?.kind === 'progress' && (
        <progress aria-label="Progress" max={last.total ?? undefined} value={last.total === undefined ? undefined : last.progress} />
      )}
      {call.events.length > 0 && (
        <ol className="happened">
          {call.events.map((event, index) => (
            <li key={index} className="quiet">
              {event.kind === 'progress'
                ? `${event.progress}${event.total === undefined ? '' : ` of ${event.total}`} ${event.message ?? ''}`
                : `${event.level}: ${typeof event.data === 'string' ? event.data : JSON.stringify(event.data)}`}
            </li>
          ))}
        </ol>
      )}
      {call.trouble && <TroubleNote trouble={call.trouble} />}
      {call.result && <Answer call={call} />}
    </div>
  );
}

function Stderr() {
  const lines = useStore((store) => store.stderr);
  if (lines.length === 0) return null;
  return (
    <details className="stderr">
      <summary>What the server wrote to stderr ({lines.length} lines)</summary>
      <pre>{lines.map(({ line }) => line).join('\n')}</pre>
    </details>
  );
}

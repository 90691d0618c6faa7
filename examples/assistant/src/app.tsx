import { useEffect, useRef, useState, useSyncExternalStore } from 'react';
import { counted } from './counted';
import { ExchangeView } from './exchange.js';
import type { Host } from './host.js';
import { Side } from './side.js';
import { TraceView } from './trace.js';
import { load, save } from './storage.js';
import { WaitingView } from './waiting.js';

export function App({ host }: { host: Host }) {
  const state = useSyncExternalStore(host.subscribe, host.snapshot);
  const [text, setText] = useState('');
  const [theme, setTheme] = useState(() => load<'light' | 'dark' | ''>('theme', ''));
  const end = useRef<HTMLDivElement>(null);
  const composer = useRef<HTMLTextAreaElement>(null);
  const { exchanges, waiting, isBusy, servers, model } = state;
  const last = exchanges.at(-1);

  useEffect(() => {
    if (theme === '') delete document.documentElement.dataset.theme;
    else document.documentElement.dataset.theme = theme;
    save('theme', theme);
  }, [theme]);
  useEffect(
    () => void end.current?.scrollIntoView({ block: 'end' }),
    [exchanges.length, last?.steps.length, last?.writing, waiting.length],
  );
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key === 'Escape' && isBusy) host.stop();
      // As in most editors: a slash from anywhere leads to the place to write.
      if (event.key === '/' && !(event.target as Element).closest('input, textarea, select')) {
        event.preventDefault();
        composer.current?.focus();
      }
    };
    addEventListener('keydown', onKey);
    return () => removeEventListener('keydown', onKey);
  }, [host, isBusy]);

  const send = () => {
    const request = text.trim();
    if (request === '' || isBusy) return;
    setText('');
    void host.ask(request);
  };
  const tools = servers.reduce((sum, each) => sum + each.tools, 0);
  return (
    <div className="page">
      <Side host={host} state={state} theme={theme} onTheme={setTheme} />
      <main>
        <section className="talk" aria-label="Conversation" aria-live="polite">
          {exchanges.length > 0 && <h1 className="unseen">Conversation</h1>}
          {exchanges.length === 0 && (
            <div className="empty">
              <h1>What would you like to know?</h1>
              <p>
                {tools === 0
                  ? 'Connect a server on the left: then its tools can be called from here.'
                  : `In play: ${counted(tools, 'tool')} of ${counted(servers.filter((each) => each.tools > 0).length, 'server')}.`}
              </p>
              {tools > 0 && (
                <ul>
                  {['How much syrup do 12 colonies need in autumn?', 'Give me an overview of the season.', 'Move hive MR-03.'].map(
                    (each) => (
                      <li key={each}>
                        <button type="button" className="plain" onClick={() => setText(each)}>
                          {each}
                        </button>
                      </li>
                    ),
                  )}
                </ul>
              )}
            </div>
          )}
          {exchanges.map((each) => (
            <ExchangeView
              host={host}
              key={each.id}
              exchange={each}
              doing={!isBusy || each !== last ? undefined : waiting.length > 0 ? 'waiting' : 'working'}
            />
          ))}
          {waiting.map((each, index) => (
            <WaitingView key={`${each.kind} ${index}`} waiting={each} />
          ))}
          <div ref={end} />
        </section>
        <form
          className="composer"
          onSubmit={(event) => {
            event.preventDefault();
            send();
          }}
        >
          <textarea
            ref={composer}
            value={text}
            rows={2}
            autoFocus
            aria-label="Your request"
            placeholder="Ask for something. Enter sends, Shift and Enter begins a line."
            onChange={(event) => setText(event.target.value)}
            onKeyDown={(event) => {
              if (event.key !== 'Enter' || event.shiftKey || event.nativeEvent.isComposing) return;
              event.preventDefault();
              send();
            }}
          />
          <div className="row">
            <span className="quiet">
              {model.url === '' ? 'The stand-in chooses tools by shared words. It is not a model.' : `${model.model} at ${model.url}`}
            </span>
            {isBusy ? (
              <button type="button" onClick={() => host.stop()}>
                Stop
              </button>
            ) : (
              <button type="submit" className="primary" disabled={text.trim() === ''}>
                Send
              </button>
            )}
          </div>
        </form>
      </main>
      <TraceView exchange={last} />
    </div>
  );
}

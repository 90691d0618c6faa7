import { mayCall } from 'jexo/view/host';
import { useEffect, useState } from 'react';
import { Button } from 'react-aria-components';
import { modelView, troubleOf } from './api';
import type { ConnectionState, ModelView, Trouble } from './model';
import { Rehearsal } from './rehearsal';
import { keep, useStore } from './store';
import { TroubleNote } from './trouble-note';
import { tokens } from './words';
import { counted } from './counted';

const noEdits: Readonly<Record<string, { name?: string; description?: string }>> = {};

/** Exactly what would be put before a model, what it costs, and what another description would change. */
// eslint-disable-next-line max-lines-per-function -- the markup of one place
export function ModelPlace({ connection }: { connection: ConnectionState }) {
  const edits = useStore((store) => store.edits[connection.shown] ?? noEdits);
  const allEdits = useStore((store) => store.edits);
  const names = connection.shelf.filter(({ kind, offer }) => kind === 'tool' && mayCall(offer._meta, 'model')).map(({ key }) => key);
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const [open, setOpen] = useState<string>();
  const [view, setView] = useState<ModelView>();
  const [trouble, setTrouble] = useState<Trouble>();
  const [asFunctions, setAsFunctions] = useState(false);
  const given = asFunctions ? view?.functions : view?.text;
  const chosen = names.filter((name) => !left.has(name));
  const asked = JSON.stringify([chosen, edits, connection.shelf.length]);
  useEffect(() => {
    const gone = new AbortController();
    modelView(connection.id, chosen, edits, gone.signal).then(
      (found) => {
        setView(found);
        setTrouble(undefined);
      },
      (error: unknown) => gone.signal.aborted || setTrouble(troubleOf(error)),
    );
    return () => gone.abort();
  }, [connection.id, asked]);
  const edit = (tool: string, change: { name?: string; description?: string } | undefined) => {
    const { [tool]: before, ...others } = edits as Record<string, object>;
    keep({ edits: { ...allEdits, [connection.shown]: change === undefined ? others : { ...others, [tool]: { ...before, ...change } } } });
  };
  if (names.length === 0)
    return (
      <main className="place">
        <div className="empty">
          <p>{connection.shown} offers no tools, so a model would see nothing of it.</p>
        </div>
      </main>
    );
  const most = Math.max(1, ...(view?.tools ?? []).map((each) => each.tokens));
  return (
    <main className="place model" aria-label="As a model sees it">
      <section className="sheet costs">
        <header>
          <p className="step">As a model sees it</p>
          <h1>{view ? tokens(view.tokens) : '…'}</h1>
          <p className="quiet">
            for {chosen.length} of {counted(names.length, 'tool')}, by a rule of thumb (four characters of prose or three of JSON make one)
          </p>
        </header>
        <ul className="tools">
          {names.map((name) => {
            const seen = view?.tools.find((each) => each.name === name);
            const item = connection.shelf.find((each) => each.kind === 'tool' && each.key === name)!;
            return (
              <li key={name}>
                <div className="tool-line">
                  <input
                    type="checkbox"
                    aria-label={`Offer ${name}`}
                    checked={!left.has(name)}
                    onChange={(event) =>
                      setLeft(new Set(event.target.checked ? [...left].filter((each) => each !== name) : [...left, name]))
                    }
                  />
                  <button
                    type="button"
                    className="name"
                    aria-expanded={open === name}
                    onClick={() => setOpen(open === name ? undefined : name)}
                  >
                    {name}
                    {seen?.edited && <span className="mark"> tried out</span>}
                  </button>
                  <span className="bar-track" aria-hidden="true">
                    <span className="bar" style={{ width: `${((seen?.tokens ?? 0) / most) * 100}%` }} />
                  </span>
                  <span className="cost quiet">{seen ? `~${seen.tokens}` : 'not offered'}</span>
                </div>
                {open === name && (
                  <div className="tool-detail">
                    {seen && (
                      <p className="quiet">
                        ~{seen.descriptionTokens} for the description, ~{seen.schemaTokens} for the schema
                      </p>
                    )}
                    <label className="field">
                      <span className="label">Another name, to try</span>
                      <input value={edits[name]?.name ?? name} onChange={(event) => edit(name, { name: event.target.value })} />
                    </label>
                    <label className="field">
                      <span className="label">Another description, to try before it is written into the code</span>
                      <textarea
                        rows={5}
                        value={edits[name]?.description ?? item.description ?? ''}
                        onChange={(event) => edit(name, { description: event.target.value })}
                      />
                    </label>
                    {seen?.edited && (
                      <Button className="plain small" onPress={() => edit(name, undefined)}>
                        Revert
                      </Button>
                    )}
                    {seen && seen.trims.length > 0 && (
                      <>
                        <p className="step">What omitting would save</p>
                        <ul className="trims">
                          {seen.trims.map(({ what, saves }) => (
                            <li key={what}>
                              <span className="cost">~{saves}</span> {what}
                            </li>
                          ))}
                        </ul>
                      </>
                    )}
                  </div>
                )}
              </li>
            );
          })}
        </ul>
      </section>
      <Rehearsal connection={connection} edits={edits} />
      <section className="sheet given">
        <div className="step-line">
          <p className="step">What the model is given</p>
          <Button className="plain small" onPress={() => setAsFunctions(!asFunctions)}>
            {asFunctions ? 'Show the protocol’s form' : 'Show the chat-completions form'}
          </Button>
          <Button className="plain small" onPress={() => void navigator.clipboard.writeText(given ?? '').catch(() => undefined)}>
            Copy
          </Button>
        </div>
        {trouble && <TroubleNote trouble={trouble} />}
        <pre tabIndex={0}>{given}</pre>
      </section>
    </main>
  );
}

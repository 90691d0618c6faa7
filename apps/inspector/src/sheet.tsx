import { mayCall } from 'jexo/view/host';
import { useState } from 'react';
import { Button } from 'react-aria-components';
import { cancelCall, setWatched, startCall, troubleOf } from './api';
import { Earlier } from './earlier';
import { IssueList } from './issue-list';
import { JsonField } from './json-field';
import { CopyAs } from './keep';
import type { ConnectionState, JsonSchema, ShelfItem, Trouble } from './model';
import { Run } from './run';
import { SchemaForm } from './schema-form';
import { initialInput, type Input } from './schema-shapes';
import { belongs, requestOf, schemaOf, useCallKey, useIssues, useSuggestions } from './sheet-input';
import { keepDraft, useStore } from './store';
import { TroubleNote } from './trouble-note';
import { kindSigns } from './words';

/** One thing on the bench, read from top to bottom: what the model reads, the arguments, what happened meanwhile, the answer. */
export function Sheet({ connection, item, onOpen }: { connection: ConnectionState; item: ShelfItem; onOpen: (uri: string) => void }) {
  const calls = useStore((store) => store.calls);
  const draftKey = `${connection.shown} ${item.kind} ${item.key}`;
  const draft = useStore((store) => store.drafts[draftKey]);
  const input: Input = draft ?? initialInput(schemaOf(item));
  const [trouble, setTrouble] = useState<Trouble>();
  const [how, setHow] = useState<How>({ times: 1, asTask: false });
  const [wasSent, setWasSent] = useState(false);
  const setInput = (next: Input) => keepDraft(draftKey, next);
  const mine = [...calls.values()].filter((call) => call.connection === connection.id && belongs(call, item)).reverse();
  const [latest, ...earlier] = mine;

  const run = async () => {
    setTrouble(undefined);
    setWasSent(true);
    const asTask = how.asTask || taskSupportOf(item) === 'required';
    const more = { ...(how.times > 1 && { times: how.times }), ...(asTask && { asTask }) };
    try {
      await startCall(requestOf(connection.id, item, input, more));
    } catch (error) {
      setTrouble(troubleOf(error));
    }
  };
  useCallKey(run);

  return (
    <>
      <section className="sheet" aria-label={`${verbs[item.kind].noun} ${item.key}`}>
        <Head item={item} />
        <form
          onSubmit={(event) => {
            event.preventDefault();
            void run();
          }}
          noValidate
        >
          <Arguments connection={connection} item={item} input={input} wasSent={wasSent} onChange={setInput} />
          <div className="actions">
            <Button type="submit" className="primary">
              {verbs[item.kind].verb}
            </Button>
            {latest?.status === 'running' && (
              <Button className="plain" onPress={() => void cancelCall(latest.id)}>
                Cancel
              </Button>
            )}
            <CallOptions item={item} how={how} onChange={setHow} />
            {item.kind === 'resource' && <WatchToggle connection={connection} uri={item.key} />}
            <span className="quiet keys">
              <kbd>Ctrl</kbd> <kbd>Enter</kbd>
            </span>
          </div>
        </form>
        {trouble && <TroubleNote trouble={trouble} />}
        {latest && <Run call={latest} onOpen={onOpen} />}
      </section>
      {earlier.length > 0 && <Earlier latest={latest!} earlier={earlier} onOpen={onOpen} onAgain={(call) => setInput(call.input)} />}
    </>
  );
}

const verbs: Record<ShelfItem['kind'], { readonly verb: string; readonly noun: string }> = {
  tool: { verb: 'Call', noun: 'Call' },
  resource: { verb: 'Read', noun: 'Read' },
  template: { verb: 'Read', noun: 'Read' },
  prompt: { verb: 'Render', noun: 'Render' },
};

const taskSupportOf = ({ kind, offer }: ShelfItem) => (kind === 'tool' ? offer.execution?.taskSupport : undefined);

interface ArgumentsProps {
  readonly connection: ConnectionState;
  readonly item: ShelfItem;
  readonly input: Input;
  /** True once it was called: from then on the form shows everything that is wrong. */
  readonly wasSent: boolean;
  readonly onChange: (input: Input) => void;
}

const isRecord = (value: unknown) => value === undefined || (typeof value === 'object' && value !== null && !Array.isArray(value));

/** What it is called with, as a form or as JSON. */
function Arguments({ connection, item, input, wasSent, onChange }: ArgumentsProps) {
  const schema = schemaOf(item);
  const [raw, setRaw] = useState(false);
  const [rawIsWrong, setRawIsWrong] = useState(false);
  const issues = useIssues(connection.id, item, input);
  const [suggestions, suggest] = useSuggestions(connection.id, item, input);
  return (
    <>
      <div className="step-line">
        <p className="step">The arguments</p>
        <span className="segments">
          <Examples schema={schema} onTake={onChange} />
          <CopyAs connection={connection.id} item={item} input={input} />
          <Button className="plain small" isDisabled={raw && rawIsWrong} onPress={() => setRaw(!raw)}>
            {raw ? 'As a form' : 'As JSON'}
          </Button>
        </span>
      </div>
      {raw ? (
        <>
          <JsonField
            label="The arguments as JSON"
            rows={8}
            value={input}
            onWrong={setRawIsWrong}
            refuses={(next) => (isRecord(next) ? undefined : 'The arguments are an object: {"name": value}')}
            onChange={(next) => onChange((next ?? {}) as Input)}
          />
          {!rawIsWrong && <IssueList issues={issues} whole="the arguments" />}
        </>
      ) : (
        <SchemaForm
          schema={schema}
          value={input}
          onChange={onChange}
          issues={issues}
          showAll={wasSent}
          suggestions={suggestions}
          suggest={suggest}
          empty={`This ${kindSigns[item.kind].one} takes no arguments.`}
        />
      )}
    </>
  );
}

/** How often a tool is called, and whether as a task. */
interface How {
  readonly times: number;
  readonly asTask: boolean;
}

function CallOptions({ item, how, onChange }: { item: ShelfItem; how: How; onChange: (how: How) => void }) {
  if (item.kind !== 'tool') return null;
  const taskSupport = taskSupportOf(item);
  return (
    <>
      <label className="times quiet">
        <input
          type="number"
          min={1}
          max={1000}
          value={how.times}
          aria-label="How many times"
          onChange={(event) => onChange({ ...how, times: Math.max(1, Number(event.target.value) || 1) })}
        />{' '}
        times
      </label>
      {(taskSupport === 'optional' || taskSupport === 'required') && (
        <label className="quiet">
          <input
            type="checkbox"
            checked={how.asTask || taskSupport === 'required'}
            disabled={taskSupport === 'required'}
            onChange={(event) => onChange({ ...how, asTask: event.target.checked })}
          />{' '}
          as a task
        </label>
      )}
    </>
  );
}

function Head({ item }: { item: ShelfItem }) {
  const hints = Object.entries(item.offer.annotations ?? {}).filter(([, value]) => typeof value === 'boolean');
  const reads =
    item.kind === 'tool' ? 'What the model reads' : `${kindSigns[item.kind].one}${item.offer.mimeType ? ` · ${item.offer.mimeType}` : ''}`;
  const isForViews = item.kind === 'tool' && !mayCall(item.offer._meta, 'model');
  return (
    <header>
      <p className="step">{isForViews ? 'Only views call this: models do not see it' : reads}</p>
      <h1>{item.key}</h1>
      {item.title !== undefined && item.title !== item.key && <p className="title quiet">{item.title}</p>}
      <p className="description">
        {item.description ??
          (item.kind === 'tool' ? <em className="warn">No description: a model will not know when to use this tool.</em> : null)}
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
  );
}

function Examples({ schema, onTake }: { schema: JsonSchema; onTake: (input: Input) => void }) {
  const examples = (schema.examples as Input[] | undefined) ?? [];
  if (examples.length === 0) return null;
  return (
    <Button className="plain small" onPress={() => onTake(examples[0]!)}>
      Fill in the example
    </Button>
  );
}

function WatchToggle({ connection, uri }: { connection: ConnectionState; uri: string }) {
  const [trouble, setTrouble] = useState<Trouble>();
  const [wanted, setWanted] = useState<boolean>();
  if (connection.server?.capabilities.resources?.subscribe !== true) return null;
  const on = connection.watched.includes(uri);
  // What was asked for shows at once; the server's word comes a moment later.
  const shown = wanted ?? on;
  return (
    <>
      <label className="quiet">
        <input
          type="checkbox"
          checked={shown}
          onChange={(event) => {
            const next = event.target.checked;
            setWanted(next);
            setTrouble(undefined);
            setWatched(connection.id, uri, next)
              .catch((error: unknown) => setTrouble(troubleOf(error)))
              .finally(() => setWanted(undefined));
          }}
        />{' '}
        watch for changes
      </label>
      {trouble && <TroubleNote trouble={trouble} />}
    </>
  );
}

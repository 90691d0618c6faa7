import { useEffect, useRef, useState } from 'react';
import { Button } from 'react-aria-components';
import { cancelCall, checkInput, compare, complete, setWatched, startCall, troubleOf } from './api';
import { Answer, Runs } from './answer';
import type { CallRequest, CallSheet, ConnectionState, Difference, Issue, JsonSchema, ShelfItem, Trouble } from './model';
import { CopyAs, KeepOnSheet } from './keep';
import { QuestionCard } from './questions';
import { JsonField } from './json-field';
import { SchemaForm } from './schema-form';
import { initialInput, type Input } from './schema-shapes';
import { keepDraft, useStore } from './store';
import { TroubleNote } from './trouble-note';
import { duration, kindSigns, outcomes } from './words';

/** One thing on the bench, read from top to bottom: what the model reads, the arguments, what happened meanwhile, the answer. */
export function Sheet({ connection, item, onOpen }: { connection: ConnectionState; item: ShelfItem; onOpen: (uri: string) => void }) {
  const calls = useStore((store) => store.calls);
  const draftKey = `${connection.shown} ${item.kind} ${item.key}`;
  const draft = useStore((store) => store.drafts[draftKey]);
  const schema = schemaOf(item);
  const input: Input = draft ?? initialInput(schema);
  const [raw, setRaw] = useState(false);
  const [rawIsWrong, setRawIsWrong] = useState(false);
  const [trouble, setTrouble] = useState<Trouble>();
  const [times, setTimes] = useState(1);
  const taskSupport = item.kind === 'tool' ? item.offer.execution?.taskSupport : undefined;
  const [asTask, setAsTask] = useState(false);
  const issues = useIssues(connection.id, item, input);
  const [suggestions, suggest] = useSuggestions(connection.id, item, input);

  const mine = [...calls.values()].filter((call) => call.connection === connection.id && belongs(call, item)).reverse();
  const [latest, ...earlier] = mine;
  const running = latest?.status === 'running';
  const setInput = (next: Input) => keepDraft(draftKey, next);

  const run = async () => {
    setTrouble(undefined);
    try {
      await startCall(
        requestOf(connection.id, item, input, {
          ...(times > 1 && { times }),
          ...((asTask || taskSupport === 'required') && { asTask: true }),
        }),
      );
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
          <div className="step-line">
            <p className="step">The arguments</p>
            <span className="segments">
              <Examples schema={schema} onTake={setInput} />
              <CopyAs connection={connection.id} item={item} input={input} />
              <Button className="plain small" isDisabled={raw && rawIsWrong} onPress={() => setRaw(!raw)}>
                {raw ? 'As a form' : 'As JSON'}
              </Button>
            </span>
          </div>
          {raw ? (
            <JsonField
              label="The arguments as JSON"
              rows={8}
              value={input}
              onWrong={setRawIsWrong}
              onChange={(next) => typeof next === 'object' && next !== null && !Array.isArray(next) && setInput(next as Input)}
            />
          ) : (
            <SchemaForm
              schema={schema}
              value={input}
              onChange={setInput}
              issues={draft === undefined ? [] : issues}
              suggestions={suggestions}
              suggest={suggest}
              empty={`This ${kindSigns[item.kind].one} takes no input.`}
            />
          )}
          <div className="actions">
            <Button type="submit" className="primary">
              {verbs[item.kind].verb}
            </Button>
            {running && (
              <Button className="plain" onPress={() => void cancelCall(latest.id)}>
                Cancel
              </Button>
            )}
            {item.kind === 'tool' && (
              <label className="times quiet">
                <input
                  type="number"
                  min={1}
                  max={1000}
                  value={times}
                  aria-label="How many times"
                  onChange={(event) => setTimes(Math.max(1, Number(event.target.value) || 1))}
                />{' '}
                times
              </label>
            )}
            {(taskSupport === 'optional' || taskSupport === 'required') && (
              <label className="quiet">
                <input
                  type="checkbox"
                  checked={asTask || taskSupport === 'required'}
                  disabled={taskSupport === 'required'}
                  onChange={(event) => setAsTask(event.target.checked)}
                />{' '}
                as a task
              </label>
            )}
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

function requestOf(connection: number, { kind, key }: ShelfItem, input: Input, more: Partial<CallRequest>): CallRequest {
  if (kind === 'template') return { connection, kind: 'resource', name: key, item: key, input };
  return { connection, kind, name: key, input: kind === 'resource' ? {} : input, ...more };
}

function belongs(call: CallSheet, { kind, key }: ShelfItem): boolean {
  if (kind === 'template') return call.item === key;
  return call.kind === kind && call.name === key && call.item === undefined;
}

/** What is filled in: a tool's own schema, a prompt's arguments, a template's variables. */
function schemaOf(item: ShelfItem): JsonSchema {
  const { offer } = item;
  if (item.kind === 'tool') return offer.inputSchema;
  const text = (name: string, description?: string) =>
    [name, { type: 'string', ...(description !== undefined && { description }) }] as const;
  if (item.kind === 'prompt') {
    const args = offer.arguments ?? [];
    return {
      type: 'object',
      properties: Object.fromEntries(args.map(({ name, description }) => text(name, description))),
      required: args.filter(({ required }) => required).map(({ name }) => name),
      additionalProperties: false,
    };
  }
  const expressions = item.kind === 'template' ? [...item.key.matchAll(/\{([+#./;?&]?)([^}]+)\}/g)] : [];
  const variables = expressions.flatMap(([, operator, names]) =>
    names!.split(',').map((name) => ({ name: name.replace(/[*:].*$/, ''), optional: operator === '?' || operator === '&' })),
  );
  return {
    type: 'object',
    properties: Object.fromEntries(variables.map(({ name }) => text(name))),
    required: variables.filter(({ optional }) => !optional).map(({ name }) => name),
    additionalProperties: false,
  };
}

function Head({ item }: { item: ShelfItem }) {
  const hints = Object.entries(item.offer.annotations ?? {}).filter(([, value]) => typeof value === 'boolean');
  const reads =
    item.kind === 'tool' ? 'What the model reads' : `${kindSigns[item.kind].one}${item.offer.mimeType ? ` · ${item.offer.mimeType}` : ''}`;
  return (
    <header>
      <p className="step">{reads}</p>
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

/** The key that calls what lies on the bench, from wherever one is. */
function useCallKey(run: () => Promise<void>): void {
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
}

const checkAfterMs = 200;

/** What is wrong with the input by the tool's own schema, a moment after it was typed. Of what was changed since, nothing is said. */
function useIssues(connection: number, item: ShelfItem, input: Input): readonly Issue[] {
  const [found, setFound] = useState<{ readonly about: Input; readonly issues: readonly Issue[] }>({ about: {}, issues: [] });
  const text = JSON.stringify(input);
  useEffect(() => {
    if (item.kind !== 'tool') return;
    const left = new AbortController();
    const timer = setTimeout(() => {
      const about = JSON.parse(text) as Input;
      checkInput(connection, item.key, about, left.signal).then(
        (issues) => setFound({ about, issues }),
        () => undefined, // the call itself will say
      );
    }, checkAfterMs);
    return () => {
      clearTimeout(timer);
      left.abort();
    };
  }, [connection, item.kind, item.key, text]);
  const isSame = (field: string) => JSON.stringify(found.about[field]) === JSON.stringify(input[field]);
  return found.issues.filter(({ path }) => path === '' || isSame(/^[^.[]*/.exec(path)![0]));
}

function useSuggestions(connection: number, item: ShelfItem, input: Input) {
  const [suggestions, setSuggestions] = useState<Readonly<Record<string, readonly string[]>>>({});
  const asking = useRef<AbortController>(undefined);
  const suggest = (name: string, typed: string) => {
    if (item.kind !== 'prompt' && item.kind !== 'template') return;
    asking.current?.abort();
    asking.current = new AbortController();
    const { [name]: _, ...known } = input as Record<string, string>;
    complete(connection, { kind: item.kind, key: item.key }, { name, value: typed }, known, asking.current.signal).then(
      ({ values }) => setSuggestions((before) => ({ ...before, [name]: values })),
      () => undefined, // a server without suggestions is no fault of the person's
    );
  };
  return [suggestions, suggest] as const;
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

function Outcome({ call }: { call: CallSheet }) {
  const { mark, words } = outcomes[call.status];
  return (
    <span className={`outcome ${call.status}`}>
      <span aria-hidden="true">{mark}</span> {words}
      {call.tookMs !== undefined && ` in ${duration(call.tookMs)}`}
    </span>
  );
}

function Run({ call, onOpen }: { call: CallSheet; onOpen: (uri: string) => void }) {
  const last = call.events.findLast((event) => event.kind === 'progress');
  return (
    <div className="run">
      <div className="step-line">
        <p className="step">{call.status === 'running' ? 'What is happening' : 'The answer'}</p>
        <span role="status">
          <Outcome call={call} />
        </span>
      </div>
      {call.item !== undefined && (
        <p className="quiet">
          <code>{call.name}</code>
        </p>
      )}
      {call.status === 'running' && last?.kind === 'progress' && (
        <progress aria-label="Progress" max={last.total ?? undefined} value={last.total === undefined ? undefined : last.progress} />
      )}
      {call.events.length > 0 && <Happened call={call} />}
      {call.runs && call.runs.length > 1 && <Runs runs={call.runs} />}
      {call.trouble && !call.mismatch && <TroubleNote trouble={call.trouble} />}
      <Answer call={call} onOpen={onOpen} />
      {call.status !== 'running' && call.status !== 'cancelled' && <KeepOnSheet call={call} />}
    </div>
  );
}

const eventsShown = 8;

function Happened({ call }: { call: CallSheet }) {
  const [all, setAll] = useState(false);
  const events = all ? call.events : call.events.slice(-eventsShown);
  return (
    <ol className="happened">
      {call.events.length > events.length && (
        <li>
          <Button className="plain small" onPress={() => setAll(true)}>
            {call.events.length - events.length} earlier
          </Button>
        </li>
      )}
      {events.map((event, index) => {
        switch (event.kind) {
          case 'progress':
            return (
              <li key={index} className="quiet">
                {event.progress}
                {event.total !== undefined && ` of ${event.total}`} {event.message}
              </li>
            );
          case 'log':
            return (
              <li key={index} className={`log ${event.level}`}>
                <span className="level">{event.level}</span> {typeof event.data === 'string' ? event.data : JSON.stringify(event.data)}
              </li>
            );
          case 'task':
            return (
              <li key={index} className="quiet">
                task {event.task.status}
                {event.task.statusMessage && `: ${event.task.statusMessage}`} <code>{event.task.taskId}</code>
              </li>
            );
          case 'updated':
            return (
              <li key={index} className="quiet">
                changed, and read again
              </li>
            );
          case 'question':
            return (
              <li key={index}>
                <QuestionCard question={event.question} />
              </li>
            );
        }
      })}
    </ol>
  );
}

/** Earlier calls, a line each; any of them can be laid beside the latest. */
function Earlier({
  latest,
  earlier,
  onOpen,
  onAgain,
}: {
  latest: CallSheet;
  earlier: readonly CallSheet[];
  onOpen: (uri: string) => void;
  onAgain: (call: CallSheet) => void;
}) {
  const [compared, setCompared] = useState<{ readonly call: CallSheet; readonly found: readonly Difference[] }>();
  return (
    <section className="earlier" aria-label="Earlier calls">
      {earlier.map((call) => (
        <details key={call.id}>
          <summary>
            <Outcome call={call} />
            <code className="given">{JSON.stringify(call.input)}</code>
          </summary>
          <p className="segments">
            <Button className="plain small" onPress={() => onAgain(call)}>
              Take these arguments
            </Button>
            {latest.status !== 'running' && (
              <Button
                className="plain small"
                onPress={() =>
                  void compare(call.id, latest.id).then(
                    (found) => setCompared({ call, found }),
                    () => setCompared(undefined),
                  )
                }
              >
                Compare with the latest
              </Button>
            )}
          </p>
          {compared?.call.id === call.id && <Comparison before={call} after={latest} found={compared.found} />}
          <Run call={call} onOpen={onOpen} />
        </details>
      ))}
    </section>
  );
}

const differenceMarks = { added: '+', removed: '−', changed: '≠' };

function Comparison({ before, after, found }: { before: CallSheet; after: CallSheet; found: readonly Difference[] }) {
  const show = (value: unknown) => (value === undefined ? '' : JSON.stringify(value));
  const inputs = JSON.stringify(before.input) === JSON.stringify(after.input) ? 'the same arguments' : 'other arguments';
  return (
    <div className="comparison" role="region" aria-label="Comparison">
      <p className="step">
        Against the latest answer, with {inputs}:{' '}
        {found.length === 0 ? 'no difference' : `${found.length} ${found.length === 1 ? 'difference' : 'differences'}`}
      </p>
      {found.length > 0 && (
        <table>
          <thead>
            <tr>
              <th scope="col">where</th>
              <th scope="col">this one</th>
              <th scope="col">the latest</th>
            </tr>
          </thead>
          <tbody>
            {found.map((each) => (
              <tr key={each.path} className={each.kind}>
                <td>
                  <span className="mark" aria-label={each.kind}>
                    {differenceMarks[each.kind]}
                  </span>{' '}
                  <code>{each.path === '' ? '(the whole)' : each.path}</code>
                </td>
                <td className="before">{show(each.before)}</td>
                <td className="after">{show(each.after)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}

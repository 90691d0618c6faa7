/**
 * The plain page at the root of a served server: what it offers, a form to try each, and how to put it into a host application. It talks
 * to the server by the protocol alone. The path of the endpoint is put in when it is served; script and style are inside the page.
 */
import { useEffect, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { connectFront, textOf, type Front } from './front-client';
import './front.css';
import type { JsonSchema, ShelfItem } from './model';
import { SchemaForm } from './schema-form';
import { initialInput, type Input } from './schema-shapes';
import { schemaOf } from './sheet-input';

const endpoint = document.documentElement.dataset.endpoint!;
const url = new URL(endpoint, location.href).href;

interface Outcome {
  readonly text: string;
  readonly state: 'waiting' | 'ok' | 'failed';
}

function Page() {
  const [front, setFront] = useState<Front>();
  const [trouble, setTrouble] = useState<string>();
  useEffect(() => {
    connectFront(endpoint).then(
      (found) => {
        document.title = found.server.title ?? found.server.name;
        setFront(found);
      },
      (error: unknown) => setTrouble(error instanceof Error ? error.message : String(error)),
    );
  }, []);
  if (trouble !== undefined)
    return (
      <>
        <h1>This server does not answer</h1>
        <p className="failed">{trouble}</p>
        <p>Reload the page, or look at what the server prints.</p>
      </>
    );
  if (front === undefined) return <p>Asking the server what it offers…</p>;
  const { server, instructions, items } = front;
  const name = server.name.replace(/[^A-Za-z0-9]+/g, '_');
  const of = (...kinds: ShelfItem['kind'][]) => items.filter(({ kind }) => kinds.includes(kind));
  return (
    <>
      <h1>{server.title ?? server.name}</h1>
      <p className="quiet">
        {server.version} · serves the Model Context Protocol at {url}
      </p>
      {instructions && <p>{instructions}</p>}
      <Section title="Tools" items={of('tool')} front={front} />
      <Section title="Resources" items={of('resource', 'template')} front={front} />
      <Section title="Prompts" items={of('prompt')} front={front} />
      <h2>Into a host application</h2>
      <Snippet title="An entry for its map of servers, as JSON" text={JSON.stringify({ [name]: { url } }, null, 2)} />
      <Snippet title="Or have it written and tested" text={`jexo register ${url} --config <configuration file> --name ${name}`} />
    </>
  );
}

function Section({ title, items, front }: { title: string; items: readonly ShelfItem[]; front: Front }) {
  if (items.length === 0) return null;
  return (
    <>
      <h2>{title}</h2>
      {items.map((item) => (
        <Offer key={`${item.kind} ${item.key}`} item={item} front={front} />
      ))}
    </>
  );
}

const verbs = { tool: 'Call', resource: 'Read', template: 'Read', prompt: 'Render' } as const;

/** A template whose variables stand by themselves is filled in here; any other takes the whole URI. */
const isPlain = (template: string) => !/[{}]/.test(template.replaceAll(/\{\w+\}/g, ''));
const wholeUri: JsonSchema = { type: 'object', properties: { uri: { type: 'string', description: 'the whole URI' } }, required: ['uri'] };

function Offer({ item, front }: { item: ShelfItem; front: Front }) {
  const schema = item.kind === 'resource' ? {} : item.kind === 'template' && !isPlain(item.key) ? wholeUri : schemaOf(item);
  const [input, setInput] = useState<Input>(() => initialInput(schema));
  const [outcome, setOutcome] = useState<Outcome>();
  const [first = '', ...rest] = (item.description ?? '').split('\n');
  const act = async (): Promise<Outcome> => {
    if (item.kind === 'tool') {
      const result = await front.call(item.key, input);
      const text = result.structuredContent ? JSON.stringify(result.structuredContent, null, 2) : textOf(result.content);
      return { text, state: result.isError ? 'failed' : 'ok' };
    }
    if (item.kind === 'prompt') return { text: await front.render(item.key, input as Record<string, string>), state: 'ok' };
    const uri =
      item.kind === 'resource'
        ? item.key
        : isPlain(item.key)
          ? item.key.replaceAll(/\{(\w+)\}/g, (_, name: string) => encodeURIComponent(String(input[name] ?? '')))
          : String(input.uri ?? '');
    return { text: await front.read(uri), state: 'ok' };
  };
  const submit = () => {
    setOutcome({ text: 'waiting…', state: 'waiting' });
    act().then(setOutcome, (error: unknown) =>
      setOutcome({ text: error instanceof Error ? error.message : String(error), state: 'failed' }),
    );
  };
  return (
    <details>
      <summary>
        <code>{item.key}</code>
        {item.title !== undefined && item.title !== item.key && <span className="quiet"> {item.title}</span>}
        <p className="about">{first}</p>
      </summary>
      <p className="description">{rest.join('\n').trim()}</p>
      <form
        noValidate
        onSubmit={(event) => {
          event.preventDefault();
          submit();
        }}
      >
        {item.kind !== 'resource' && <SchemaForm schema={schema} value={input} onChange={setInput} />}
        <button type="submit">{verbs[item.kind]}</button>
        <pre role="status" className={outcome?.state}>
          {outcome?.text}
        </pre>
        {outcome?.state === 'failed' && item.kind === 'tool' && (
          <p className="quiet">
            A tool that asks questions needs a client that can answer them: <code>jexo inspect {url}</code>
          </p>
        )}
      </form>
    </details>
  );
}

function Snippet({ title, text }: { title: string; text: string }) {
  const [words, setWords] = useState('Copy');
  const copy = () =>
    void navigator.clipboard.writeText(text).then(
      () => setWords('Copied'),
      () => setWords('Not copied: select it instead'),
    );
  return (
    <div className="snippet">
      <p className="quiet">{title}</p>
      <pre>{text}</pre>
      <button type="button" onClick={copy}>
        {words}
      </button>
    </div>
  );
}

createRoot(document.querySelector('main')!).render(<Page />);

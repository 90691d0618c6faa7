import { useState } from 'react';
import { Button } from 'react-aria-components';
import { addConnection, editConnection, reconnect, removeConnection, setRoots, troubleOf } from './api';
import { JsonTree } from './json-tree';
import type { ConnectionSpec, ConnectionState, Trouble } from './model';
import { keep, useStore } from './store';
import { TroubleNote } from './trouble-note';
import { duration } from './words';
import { counted } from './counted';

const statusWords = {
  connecting: 'connecting',
  connected: 'connected',
  failed: 'not connected',
  closed: 'closed',
  imported: 'a saved trace',
};

/** All connections: what each is to, what was agreed on, and how to change it. */
export function ConnectionsPlace() {
  const connections = useStore((store) => store.connections);
  const [added, setAdded] = useState(0);
  return (
    <main className="place connections" aria-label="Connections">
      {connections.map((connection) => (
        <ConnectionCard key={connection.id} connection={connection} />
      ))}
      <section className="sheet" aria-label="A further connection">
        <header>
          <h2>A further connection</h2>
          <p className="quiet">Several servers lie on the bench side by side; choose between them on the shelf.</p>
        </header>
        <SpecForm
          key={added} // a new form for the next one: this one may hold a secret
          spec={{ target: '' }}
          verb="Connect"
          onDone={async (spec) => {
            const { id } = await addConnection(spec);
            keep({ active: id });
            setAdded(added + 1);
          }}
        />
      </section>
    </main>
  );
}

export function StatusWord({ connection }: { connection: ConnectionState }) {
  return <span className={`status ${connection.status}`}>{statusWords[connection.status]}</span>;
}

// eslint-disable-next-line max-lines-per-function -- the markup of one place
function ConnectionCard({ connection }: { connection: ConnectionState }) {
  const stderr = useStore((store) => store.stderr).filter((line) => line.connection === connection.id);
  const active = useStore((store) => store.active);
  const { id, server, status, trouble } = connection;
  const facts = [
    ['revision', server?.protocolVersion],
    ['version', server?.serverInfo.version],
    ['handshake', connection.handshakeMs === undefined ? undefined : duration(connection.handshakeMs)],
    ['listing', connection.listMs === undefined ? undefined : duration(connection.listMs)],
  ] as const;
  return (
    <section className="sheet" aria-label={`Connection ${connection.shown}`}>
      <header>
        <div className="step-line">
          <h2>{server?.serverInfo.title ?? server?.serverInfo.name ?? connection.shown}</h2>
          <StatusWord connection={connection} />
        </div>
        <p>
          <code>{connection.shown}</code>
        </p>
        {server && (
          <dl className="figures">
            {facts.map(
              ([name, value]) =>
                value !== undefined && (
                  <div key={name}>
                    <dt>{name}</dt>
                    <dd>{value}</dd>
                  </div>
                ),
            )}
          </dl>
        )}
        <p className="segments">
          <Button className="plain small" aria-pressed={active === id} onPress={() => keep({ active: id, place: 'bench' })}>
            To the bench
          </Button>
          {status !== 'imported' && (
            <Button className="plain small" onPress={() => void reconnect(id)}>
              Connect again
            </Button>
          )}
          <Button className="plain small" onPress={() => void removeConnection(id)}>
            Remove
          </Button>
        </p>
      </header>
      {trouble && <TroubleNote trouble={trouble} />}
      {server?.instructions !== undefined && (
        <div>
          <p className="step">Instructions</p>
          <p className="description">{server.instructions}</p>
        </div>
      )}
      {server && (
        <div className="both">
          <div>
            <p className="step">The server can</p>
            <JsonTree value={server.capabilities} />
          </div>
          <div>
            <p className="step">What we declared</p>
            <JsonTree value={connection.clientCapabilities} />
          </div>
        </div>
      )}
      {status !== 'imported' && (
        <details>
          <summary>Change it</summary>
          <SpecForm spec={connection.spec} verb="Save and connect" onDone={async (spec) => void (await editConnection(id, spec))} />
        </details>
      )}
      {server && <Roots connection={connection} />}
      {connection.deviations.length > 0 && (
        <details open>
          <summary className="warn">{connection.deviations.length} deviations from the protocol, tolerated</summary>
          <ul>
            {connection.deviations.map((account, index) => (
              <li key={index}>{account}</li>
            ))}
          </ul>
        </details>
      )}
      {stderr.length > 0 && (
        <details>
          <summary>What it wrote to stderr ({counted(stderr.length, 'line')})</summary>
          <pre className="stderr">{stderr.map(({ line }) => line).join('\n')}</pre>
        </details>
      )}
    </section>
  );
}

function Roots({ connection }: { connection: ConnectionState }) {
  const [text, setText] = useState(() => connection.roots.map(({ uri }) => uri).join('\n'));
  const [trouble, setTrouble] = useState<Trouble>();
  const save = () => {
    setTrouble(undefined);
    const roots = text
      .split('\n')
      .map((line) => line.trim())
      .filter(Boolean)
      .map((uri) => ({ uri: uri.startsWith('/') ? `file://${uri}` : uri }));
    setRoots(connection.id, roots).catch((error: unknown) => setTrouble(troubleOf(error)));
  };
  return (
    <details>
      <summary>Roots: folders it may look at ({connection.roots.length})</summary>
      <label className="field">
        <span className="label quiet">one a line, as file:///home/keeper/hives</span>
        <textarea rows={2} value={text} onChange={(event) => setText(event.target.value)} />
      </label>
      <Button className="plain small" onPress={save}>
        Tell the server
      </Button>
      {trouble && <TroubleNote trouble={trouble} />}
    </details>
  );
}

const linesOf = (pairs: Readonly<Record<string, string>> | undefined, between: string) =>
  Object.entries(pairs ?? {})
    .map(([name, value]) => `${name}${between}${value}`)
    .join('\n');
const pairsOf = (text: string, between: string): Record<string, string> =>
  Object.fromEntries(
    text
      .split('\n')
      .filter((line) => line.includes(between))
      .map((line) => [line.slice(0, line.indexOf(between)).trim(), line.slice(line.indexOf(between) + 1).trim()]),
  );

// eslint-disable-next-line max-lines-per-function -- the fields of one form
function SpecForm({ spec, verb, onDone }: { spec: ConnectionSpec; verb: string; onDone: (spec: ConnectionSpec) => Promise<void> }) {
  const [kind, setKind] = useState<'target' | 'command'>(spec.command === undefined ? 'target' : 'command');
  const [target, setTarget] = useState(spec.target);
  const [command, setCommand] = useState(spec.command?.[0] ?? '');
  const [args, setArgs] = useState(spec.command?.slice(1).join('\n') ?? '');
  const [env, setEnv] = useState(linesOf(spec.env, '='));
  const { authorization = '', ...others } = spec.headers ?? {};
  const [token, setToken] = useState(authorization.replace(/^Bearer /, ''));
  const [headers, setHeaders] = useState(linesOf(others, ': '));
  const [trouble, setTrouble] = useState<Trouble>();
  const isUrl = /^https?:\/\//i.test(target);
  const done = () => {
    setTrouble(undefined);
    const given: ConnectionSpec =
      kind === 'command'
        ? {
            target: '',
            command: [command, ...args.split('\n').filter((line) => line !== '')],
            ...(env.trim() !== '' && { env: pairsOf(env, '=') }),
          }
        : {
            target,
            ...(isUrl && {
              headers: {
                ...pairsOf(headers, ':'),
                ...(token !== '' && { authorization: token === '(masked)' || /^\w+ /.test(token) ? token : `Bearer ${token}` }),
              },
            }),
          };
    onDone(given).catch((error: unknown) => setTrouble(troubleOf(error)));
  };
  return (
    <form
      className="fields"
      onSubmit={(event) => {
        event.preventDefault();
        done();
      }}
    >
      <div className="segments" role="group" aria-label="What to connect to">
        <Button className="plain small" aria-pressed={kind === 'target'} onPress={() => setKind('target')}>
          A module, a package or a URL
        </Button>
        <Button className="plain small" aria-pressed={kind === 'command'} onPress={() => setKind('command')}>
          A command that starts a server
        </Button>
      </div>
      {kind === 'target' ? (
        <>
          <label className="field">
            <span className="label">Target</span>
            <input
              value={target}
              placeholder="hives.ts, some-package or http://127.0.0.1:4300/mcp"
              onChange={(event) => setTarget(event.target.value)}
            />
          </label>
          {isUrl && (
            <>
              <label className="field">
                <span className="label">
                  Token <span className="quiet">sent as Authorization: Bearer</span>
                </span>
                <input type="password" autoComplete="off" value={token} onChange={(event) => setToken(event.target.value)} />
              </label>
              <label className="field">
                <span className="label">
                  Headers <span className="quiet">Name: value, one a line</span>
                </span>
                <textarea rows={2} value={headers} onChange={(event) => setHeaders(event.target.value)} />
              </label>
            </>
          )}
        </>
      ) : (
        <>
          <label className="field">
            <span className="label">Command</span>
            <input value={command} placeholder="node" onChange={(event) => setCommand(event.target.value)} />
          </label>
          <label className="field">
            <span className="label">
              Arguments <span className="quiet">one a line</span>
            </span>
            <textarea rows={3} value={args} onChange={(event) => setArgs(event.target.value)} />
          </label>
          <label className="field">
            <span className="label">
              Environment <span className="quiet">NAME=value, one a line</span>
            </span>
            <textarea rows={2} value={env} onChange={(event) => setEnv(event.target.value)} />
          </label>
        </>
      )}
      <div className="actions">
        <Button type="submit" className="primary" isDisabled={kind === 'command' ? command === '' : target === ''}>
          {verb}
        </Button>
      </div>
      {trouble && <TroubleNote trouble={trouble} />}
    </form>
  );
}

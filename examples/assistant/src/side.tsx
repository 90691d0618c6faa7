import { counted } from './counted';
import { useState } from 'react';
import type { Host, HostState, ModelSettings } from './host.js';

const states: Readonly<Record<string, string>> = {
  connecting: 'connecting…',
  ready: 'ready',
  waiting: 'not there',
  failed: 'cannot be reached',
  closed: 'closed',
};

/** The servers with their states and switches, the model, and the look. */
export function Side({
  host,
  state: { servers, model, trouble, isBusy },
  theme,
  onTheme,
}: {
  host: Host;
  state: HostState;
  theme: string;
  onTheme(theme: 'light' | 'dark' | ''): void;
}) {
  return (
    <aside className="side" aria-label="Servers and model">
      <h2>Servers</h2>
      {trouble !== undefined && trouble !== '' && <p className="note warn">{trouble}</p>}
      <ul className="servers">
        {servers.map(({ name, state, isOff, tools, address, error, nextTryMs }) => (
          <li key={name} className={isOff ? 'off' : state}>
            <label>
              <input type="checkbox" role="switch" checked={!isOff} onChange={(event) => host.toggle(name, !event.target.checked)} />
              <strong>{name}</strong>
            </label>
            <span className="quiet state" role="status">
              {isOff ? 'off' : state === 'ready' ? counted(tools, 'tool') : states[state]}
            </span>
            <span className="quiet address" title={address}>
              {address}
            </span>
            {!isOff && error !== undefined && (
              <p className="note warn">
                {error.message} {nextTryMs !== undefined && 'It is tried again by itself.'}{' '}
                <button type="button" className="plain" onClick={() => host.reconnect(name)}>
                  Try now
                </button>
              </p>
            )}
            <button
              type="button"
              className="plain remove"
              aria-label={`Remove ${name}`}
              disabled={isBusy}
              onClick={() => void host.remove(name)}
            >
              Remove
            </button>
          </li>
        ))}
      </ul>
      <AddServer host={host} names={servers.map(({ name }) => name)} />
      <h2>Model</h2>
      <ModelForm model={model} onChange={(next) => host.useModel(next)} />
      <div className="foot">
        <button type="button" disabled={isBusy} onClick={() => host.forget()}>
          New conversation
        </button>
        <label className="theme">
          <span>Look</span>
          <select value={theme} onChange={(event) => onTheme(event.target.value as 'light')}>
            <option value="">as the system</option>
            <option value="light">light</option>
            <option value="dark">dark</option>
          </select>
        </label>
      </div>
    </aside>
  );
}

function AddServer({ host, names }: { host: Host; names: readonly string[] }) {
  const [name, setName] = useState('');
  const [url, setUrl] = useState('');
  const [issue, setIssue] = useState('');
  return (
    <details className="add">
      <summary>Add a server</summary>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          const wrong = !/^[\w-]+$/.test(name)
            ? 'A name has letters, digits, - and _.'
            : names.includes(name)
              ? `There is a server called ${name} already.`
              : !URL.canParse(url) || !/^https?:/.test(url)
                ? 'Give its address, as http://127.0.0.1:4300/mcp'
                : '';
          setIssue(wrong);
          if (wrong !== '') return;
          void host.add({ name, url });
          setName('');
          setUrl('');
        }}
      >
        <label className="field">
          <span>Name</span>
          <input value={name} onChange={(event) => setName(event.target.value)} />
        </label>
        <label className="field">
          <span>Address</span>
          <input value={url} placeholder="http://127.0.0.1:4300/mcp" onChange={(event) => setUrl(event.target.value)} />
        </label>
        {issue !== '' && (
          <span className="issue" role="alert">
            {issue}
          </span>
        )}
        <button type="submit">Connect</button>
      </form>
    </details>
  );
}

function ModelForm({ model, onChange }: { model: ModelSettings; onChange(model: ModelSettings): void }) {
  return (
    <details className="add">
      <summary>{model.url === '' ? 'Stand-in (not a model)' : model.model || 'unnamed'}</summary>
      <form onSubmit={(event) => event.preventDefault()}>
        <label className="field">
          <span>Address of a chat-completions service</span>
          <input
            value={model.url}
            placeholder="http://127.0.0.1:8080/v1"
            onChange={(event) => onChange({ ...model, url: event.target.value.trim() })}
          />
        </label>
        <label className="field">
          <span>Its model</span>
          <input value={model.model} placeholder="small" onChange={(event) => onChange({ ...model, model: event.target.value.trim() })} />
        </label>
        <label className="field">
          <span>Key, not kept</span>
          <input
            type="password"
            autoComplete="off"
            value={model.key}
            onChange={(event) => onChange({ ...model, key: event.target.value })}
          />
        </label>
      </form>
    </details>
  );
}

import { useEffect, useState } from 'react';
import { Button } from 'react-aria-components';
import { reconnect } from './api';
import { ConnectionsPlace, StatusWord } from './connections';
import type { ConnectionState, ShelfItem } from './model';
import { ModelPlace } from './model-view';
import { Palette } from './palette';
import { QuestionCard } from './questions';
import { Sheet } from './sheet';
import { SheetsPlace } from './sheets';
import { Shelf } from './shelf';
import { choose, keep, useActive, useStore, type Place } from './store';
import { useTheme } from './theme';
import { Trace } from './trace';
import { TroubleNote } from './trouble-note';
import { duration } from './words';
import { counted } from './counted';

type Drawer = 'shelf' | 'trace';

export function App() {
  const phase = useStore((store) => store.phase);
  const trouble = useStore((store) => store.trouble);
  const place = useStore((store) => store.place);
  const connections = useStore((store) => store.connections);
  const chosenItems = useStore((store) => store.chosen);
  const active = useActive();
  const [drawer, setDrawer] = useState<Drawer>();
  const [theme, nextTheme] = useTheme();
  const item = active && itemOf(active, chosenItems[active.shown]);
  useEffect(() => {
    document.title =
      active === undefined ? 'Bench' : `${active.server?.serverInfo.title ?? active.server?.serverInfo.name ?? active.shown} on the bench`;
  }, [active]);

  if (phase === 'opening') return <main className="alone">Opening the bench…</main>;
  if (phase === 'locked') return <main className="alone">{trouble && <TroubleNote trouble={trouble} />}</main>;
  const shownPlace = active === undefined ? 'connections' : place;
  return (
    <div className={`room at-${shownPlace}`} data-drawer={drawer}>
      <TopBar
        connection={active}
        place={shownPlace}
        drawer={drawer}
        theme={theme}
        onTheme={nextTheme}
        onDrawer={(name) => setDrawer(drawer === name ? undefined : name)}
      />
      {phase === 'lost' && trouble && (
        <div className="banner">
          <TroubleNote trouble={trouble} />
        </div>
      )}
      {shownPlace === 'connections' && <ConnectionsPlace />}
      {shownPlace === 'model' && active && <ModelPlace connection={active} />}
      {shownPlace === 'sheets' && active && <SheetsPlace connection={active} />}
      {shownPlace === 'bench' && active && (
        <>
          <Shelf connection={active} chosen={item && `${item.kind} ${item.key}`} onChosen={() => setDrawer(undefined)} />
          <main className="bench" aria-label="Bench: one call">
            {active.trouble && <TroubleNote trouble={active.trouble} />}
            <Strays connection={active} />
            {item === undefined ? (
              <Nothing connection={active} />
            ) : (
              <Sheet
                key={`${active.id} ${item.kind} ${item.key}`}
                connection={active}
                item={item}
                onOpen={(uri) => choose(active, `resource ${uri}`)}
              />
            )}
            <Stderr connection={active} />
          </main>
          <Trace key={active.id} connection={active} />
        </>
      )}
      <Palette connections={connections} active={active} nextTheme={nextTheme} />
    </div>
  );
}

/** What lies on the bench: what was chosen, also when it is a resource that no list names. */
function itemOf({ shelf }: ConnectionState, chosen: string | undefined): ShelfItem | undefined {
  const found = shelf.find((item) => `${item.kind} ${item.key}` === chosen);
  if (found !== undefined) return found;
  if (chosen?.startsWith('resource ') && shelf.length > 0) {
    const uri = chosen.slice('resource '.length);
    return { kind: 'resource', key: uri, tokens: 0, offer: { uri, name: uri } as ShelfItem['offer'] };
  }
  return shelf[0];
}

/** Questions that belong to no call that is shown. */
function Strays({ connection }: { connection: ConnectionState }) {
  const calls = useStore((store) => store.calls);
  const questions = useStore((store) => store.questions);
  const placed = new Set(
    [...calls.values()].flatMap((call) => call.events.flatMap((event) => (event.kind === 'question' ? [event.question.id] : []))),
  );
  return questions
    .filter((question) => question.connection === connection.id && !placed.has(question.id))
    .map((question) => <QuestionCard key={question.id} question={question} />);
}

function Nothing({ connection }: { connection: ConnectionState }) {
  const { status, shown } = connection;
  if (status === 'imported')
    return (
      <div className="empty">
        <p>{shown} is a saved trace: its messages are on the right, and nothing of it can be called.</p>
      </div>
    );
  if (status !== 'connected') return null;
  return (
    <div className="empty">
      <p>{shown} offers nothing yet.</p>
      <p>
        Export a function from it and save: it appears here by itself. To see the same in the terminal: <code>jexo list {shown}</code>
      </p>
    </div>
  );
}

function Stderr({ connection }: { connection: ConnectionState }) {
  const lines = useStore((store) => store.stderr).filter((line) => line.connection === connection.id);
  if (lines.length === 0) return null;
  return (
    <details className="stderr">
      <summary>What the server wrote to stderr ({counted(lines.length, 'line')})</summary>
      <pre>{lines.map(({ line }) => line).join('\n')}</pre>
    </details>
  );
}

const places: readonly (readonly [Place, string])[] = [
  ['bench', 'Bench'],
  ['model', 'Model’s view'],
  ['sheets', 'Sheets'],
  ['connections', 'Connections'],
];

interface TopBarProps {
  readonly connection: ConnectionState | undefined;
  readonly place: Place;
  readonly drawer: Drawer | undefined;
  readonly theme: string;
  readonly onTheme: () => void;
  readonly onDrawer: (name: Drawer) => void;
}

function TopBar({ connection, place, drawer, theme, onTheme, onDrawer }: TopBarProps) {
  const { server, handshakeMs, shown, status } = connection ?? {};
  return (
    <header className="top">
      {place === 'bench' && (
        <Button className="plain only-narrow" aria-expanded={drawer === 'shelf'} onPress={() => onDrawer('shelf')}>
          Shelf
        </Button>
      )}
      <strong className="server">{server?.serverInfo.title ?? server?.serverInfo.name ?? 'Bench'}</strong>
      <span className="quiet facts">
        {connection && <StatusWord connection={connection} />}
        {server && <span className="wide">{server.serverInfo.version}</span>}
        {server && <span className="wide">protocol {server.protocolVersion}</span>}
        {handshakeMs !== undefined && status === 'connected' && <span className="widest">handshake {duration(handshakeMs)}</span>}
        {shown !== undefined && (
          <code className="wide target" title={shown}>
            {shown}
          </code>
        )}
      </span>
      <span className="push" />
      <nav className="segments" aria-label="Places">
        {places.map(([name, words]) => (
          <Button
            key={name}
            className="plain"
            aria-pressed={place === name}
            {...(place === name && { 'aria-current': 'page' as const })}
            onPress={() => keep({ place: name })}
          >
            {words}
          </Button>
        ))}
      </nav>
      {connection && status !== 'imported' && (
        <Button className="plain wide" onPress={() => void reconnect(connection.id)}>
          Connect again
        </Button>
      )}
      <Button className="plain wide" onPress={onTheme}>
        Theme: {theme}
      </Button>
      <span className="quiet keys wide">
        <kbd>Ctrl</kbd> <kbd>K</kbd>
      </span>
      {place === 'bench' && (
        <Button className="plain only-medium" aria-expanded={drawer === 'trace'} onPress={() => onDrawer('trace')}>
          Trace
        </Button>
      )}
    </header>
  );
}

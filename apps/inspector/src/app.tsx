import { useEffect, useState } from 'react';
import { Button } from 'react-aria-components';
import { reconnect } from './api';
import { Bench } from './bench';
import { Shelf } from './shelf';
import { useStore } from './store';
import { useTheme } from './theme';
import { Trace } from './trace';
import { TroubleNote } from './trouble-note';

export function App() {
  const phase = useStore((store) => store.phase);
  const trouble = useStore((store) => store.trouble);
  const bench = useStore((store) => store.bench);
  const [chosen, choose] = useState<string>();
  const [drawer, setDrawer] = useState<'shelf' | 'trace'>();

  const tools = bench?.tools ?? [];
  const tool = (tools.find((each) => each.tool.name === chosen) ?? tools[0])?.tool;
  useEffect(() => {
    document.title =
      bench === undefined ? 'Bench' : `${bench.server?.serverInfo.title ?? bench.server?.serverInfo.name ?? bench.target} on the bench`;
  }, [bench]);

  if (phase === 'opening') return <main className="alone">Opening the bench…</main>;
  if (phase === 'locked' || bench === undefined) return <main className="alone">{trouble && <TroubleNote trouble={trouble} />}</main>;
  return (
    <div className="room" data-drawer={drawer}>
      <TopBar onDrawer={(name) => setDrawer(drawer === name ? undefined : name)} drawer={drawer} />
      {phase === 'lost' && trouble && (
        <div className="banner">
          <TroubleNote trouble={trouble} />
        </div>
      )}
      <Shelf
        chosen={tool?.name}
        onChoose={(name) => {
          choose(name);
          setDrawer(undefined);
        }}
      />
      <Bench tool={tool} />
      <Trace />
    </div>
  );
}

function TopBar({ drawer, onDrawer }: { drawer: string | undefined; onDrawer: (name: 'shelf' | 'trace') => void }) {
  const bench = useStore((store) => store.bench)!;
  const [theme, nextTheme] = useTheme();
  const { status, server, target, handshakeMs } = bench;
  const words = { connecting: 'connecting', connected: 'connected', failed: 'not connected', closed: 'closed' }[status];
  return (
    <header className="top">
      <Button className="plain only-narrow" aria-expanded={drawer === 'shelf'} onPress={() => onDrawer('shelf')}>
        Shelf
      </Button>
      <strong className="server">{server?.serverInfo.title ?? server?.serverInfo.name ?? 'Bench'}</strong>
      <span className="quiet facts">
        <span className={`status ${status}`}>{words}</span>
        {server && <span className="wide">{server.serverInfo.version}</span>}
        {server && <span className="wide">protocol {server.protocolVersion}</span>}
        {handshakeMs !== undefined && status === 'connected' && <span className="wide">handshake {Math.round(handshakeMs)} ms</span>}
        <code className="wide target" title={target}>
          {target}
        </code>
      </span>
      <span className="push" />
      <Button className="plain" onPress={() => void reconnect()}>
        Reconnect
      </Button>
      <Button className="plain" onPress={nextTheme}>
        Theme: {theme}
      </Button>
      <Button className="plain only-medium" aria-expanded={drawer === 'trace'} onPress={() => onDrawer('trace')}>
        Trace
      </Button>
    </header>
  );
}

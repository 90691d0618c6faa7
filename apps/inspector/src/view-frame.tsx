import { showView, toolViewOf, type DisplayMode, type HostContext, type ViewHost, type ViewMessage } from 'jexo/view/host';
import { useEffect, useRef, useState } from 'react';
import { Button } from 'react-aria-components';
import { callFromView, readForView, readViewPage, sendViewMessages, setWatched, troubleOf } from './api';
import type { CallSheet, ConnectionState, Tool, Trouble } from './model';
import { useStore } from './store';
import { TroubleNote } from './trouble-note';

const widths = { narrow: 360, middle: 560, wide: undefined } as const;
type Width = keyof typeof widths;
const themes = ['light', 'dark'] as const;
const locales = ['en-GB', 'fr-FR', 'de-DE', 'ar-EG'] as const;
const modes: readonly DisplayMode[] = ['inline', 'fullscreen'];
/** Characters of the input that are written at a time, when it is written slowly. */
const writtenAtOnce = 3;
const writtenEveryMs = 60;

/** The theme of the bench, which a person may have set otherwise than the system’s. */
function themeOfPage(): Play['theme'] {
  const { theme } = document.documentElement.dataset;
  return theme === 'dark' || (theme === undefined && matchMedia('(prefers-color-scheme: dark)').matches) ? 'dark' : 'light';
}

/** How the page plays the host. */
interface Play {
  readonly theme: (typeof themes)[number];
  readonly width: Width;
  readonly locale: (typeof locales)[number];
  readonly mode: DisplayMode;
  readonly failsCalls: boolean;
  readonly opensLinks: boolean;
}

/** What the view did towards the conversation. */
interface Said {
  readonly id: number;
  readonly what: 'says' | 'wants remembered' | 'opens' | 'logs';
  readonly text: string;
}

/** The URI of the view that a tool’s answers are shown with. */
export function viewOfTool(connection: ConnectionState, name: string): string | undefined {
  const tool = connection.shelf.find(({ kind, key }) => kind === 'tool' && key === name)?.offer;
  return toolViewOf(tool?._meta).resourceUri;
}

/** The colours of the bench, by the names that hosts use. */
const palette = {
  light: {
    '--color-background-primary': '#ffffff',
    '--color-text-primary': '#172224',
    '--color-text-secondary': '#55625f',
    '--color-border-primary': '#d3dcda',
  },
  dark: {
    '--color-background-primary': '#1a2224',
    '--color-text-primary': '#e4ebea',
    '--color-text-secondary': '#9fadab',
    '--color-border-primary': '#2e3a3c',
  },
} as const;

const contextOf = ({ theme, locale, mode, width }: Play, room: number): HostContext => ({
  theme,
  locale,
  timeZone: Intl.DateTimeFormat().resolvedOptions().timeZone,
  styles: { variables: { ...palette[theme], '--font-sans': 'system-ui, sans-serif' } },
  displayMode: mode,
  availableDisplayModes: modes,
  containerDimensions: { maxWidth: widths[width] ?? room, maxHeight: 2000 },
  platform: 'web',
});

const textOf = (content: readonly object[]) => content.map((each) => ('text' in each ? String(each.text) : JSON.stringify(each))).join(' ');

/** Messages go to the trace together, so that a view which talks much does not slow the page. */
function lane(connection: number): (message: ViewMessage) => void {
  let waiting: (ViewMessage & { readonly at: number })[] = [];
  const send = () => {
    const messages = waiting;
    waiting = [];
    sendViewMessages(connection, messages).catch(() => undefined); // the banner says when the bench is gone
  };
  return (message) => {
    if (waiting.push({ ...message, at: Date.now() }) === 1) setTimeout(send, 30);
  };
}

/** The view of one answer, and a panel to play its host. */
// eslint-disable-next-line max-lines-per-function -- one frame and what can be done to it
export function ViewFrame({ connection, call, uri }: { connection: ConnectionState; call: CallSheet; uri: string }) {
  const sandbox = useStore((store) => store.sandbox);
  const edited = useStore((store) => store.updated.get(`${connection.id} ${uri}`) ?? 0);
  const place = useRef<HTMLDivElement>(null);
  const host = useRef<ViewHost>(undefined);
  const [trouble, setTrouble] = useState<Trouble>();
  const [said, setSaid] = useState<readonly Said[]>([]);
  const [again, setAgain] = useState(0);
  const [isGone, setIsGone] = useState(false);
  const [play, setPlay] = useState<Play>(() => ({
    theme: themeOfPage(),
    width: 'wide',
    locale: 'en-GB',
    mode: 'inline',
    failsCalls: false,
    opensLinks: true,
  }));
  const now = useRef(play);
  now.current = play;
  const room = () => place.current?.clientWidth ?? 600;
  const note = (what: Said['what'], text: string) =>
    setSaid((before) => [...before, { id: (before.at(-1)?.id ?? 0) + 1, what, text }].slice(-20));

  const takeAway = async (why: string) => {
    const shown = host.current;
    host.current = undefined;
    await shown?.close(why);
    setIsGone(true);
  };

  useEffect(() => {
    if (sandbox === undefined) return;
    let shown: ViewHost | undefined;
    let isOver = false;
    setTrouble(undefined);
    setIsGone(false);
    const tools = () => connection.shelf.flatMap(({ kind, offer }) => (kind === 'tool' ? [offer as Tool] : []));
    const show = async () => {
      const page = await readViewPage(connection.id, uri);
      if (isOver || place.current === null) return;
      const entry = connection.shelf.find(({ key }) => key === uri)?.offer;
      shown = showView({
        container: place.current,
        sandbox,
        page: page as never,
        listed: entry?._meta,
        tool: tools().find(({ name }) => name === call.name) as never,
        tools: tools as never,
        context: contextOf(now.current, room()),
        info: { name: 'jexo inspector', version: '1' },
        async callTool(name, input, signal) {
          if (now.current.failsCalls) throw new Error('The bench makes this call fail, as you asked.');
          return (await callFromView(connection.id, name, input, signal)) as never;
        },
        readResource: (wanted, signal) => readForView(connection.id, wanted, signal) as never,
        onSay(content) {
          note('says', textOf(content));
          return true;
        },
        onRemember: (content, structured) =>
          note('wants remembered', [textOf(content), structured && JSON.stringify(structured)].filter(Boolean).join(' ')),
        onOpenLink(url) {
          note('opens', now.current.opensLinks ? url : `${url} (refused)`);
          return now.current.opensLinks;
        },
        onDisplayMode(mode) {
          setPlay((before) => ({ ...before, mode }));
          return mode;
        },
        onLog: (level, data) => note('logs', `${level}: ${typeof data === 'string' ? data : JSON.stringify(data)}`),
        onLeave: () => void takeAway('the view wants to go'),
        onMessage: lane(connection.id),
      });
      host.current = shown;
      shown.input(call.input);
      if (call.status === 'cancelled') shown.cancelled('by the person');
      else if (call.result !== undefined) shown.result(call.result as never);
    };
    show().catch((error: unknown) => isOver || setTrouble(troubleOf(error)));
    return () => {
      isOver = true;
      host.current = undefined;
      void shown?.close('the page shows something else');
    };
    // The shelf is read when the view wants it; the call is over when its view is shown.
  }, [sandbox, connection.id, uri, call.id, call.status, edited, again]);

  // A page that is edited is shown again, with the same input and answer.
  useEffect(() => {
    void setWatched(connection.id, uri, true).catch(() => undefined); // a server without subscriptions: it is shown as it was
    return () => void setWatched(connection.id, uri, false).catch(() => undefined);
  }, [connection.id, uri]);

  const change = (next: Partial<Play>) => {
    const whole = { ...play, ...next };
    setPlay(whole);
    host.current?.change(contextOf(whole, room()));
  };
  const writeSlowly = async () => {
    setAgain((count) => count + 1);
    await new Promise((resolve) => setTimeout(resolve, 600));
    const text = JSON.stringify(call.input);
    for (let end = 1; end < text.length; end += writtenAtOnce) {
      host.current?.partialInput(healed(text.slice(0, end)));
      await new Promise((resolve) => setTimeout(resolve, writtenEveryMs));
    }
  };
  if (sandbox === undefined) return null;
  return (
    <section className="view" aria-label="The view">
      <div className="step-line">
        <p className="step">The view</p>
        <span className="quiet">
          <code>{uri}</code>
        </span>
      </div>
      {trouble && <TroubleNote trouble={trouble} />}
      <div className={`view-place ${play.mode}`} data-theme={play.theme} style={{ maxWidth: widths[play.width] }} ref={place} />
      {isGone && <p className="quiet">The view has been taken away.</p>}
      <details className="play">
        <summary>Play the host</summary>
        <div className="play-rows">
          <Choice label="Theme" values={themes} value={play.theme} onChange={(theme) => change({ theme })} />
          <Choice label="Width" values={Object.keys(widths) as Width[]} value={play.width} onChange={(width) => change({ width })} />
          <Choice label="Language" values={locales} value={play.locale} onChange={(locale) => change({ locale })} />
          <Choice label="Shown" values={modes} value={play.mode} onChange={(mode) => change({ mode })} />
          <label className="quiet">
            <input type="checkbox" checked={play.failsCalls} onChange={(event) => change({ failsCalls: event.target.checked })} /> calls
            fail
          </label>
          <label className="quiet">
            <input type="checkbox" checked={!play.opensLinks} onChange={(event) => change({ opensLinks: !event.target.checked })} /> links
            are refused
          </label>
        </div>
        <div className="actions">
          <Button className="plain small" onPress={() => setAgain((count) => count + 1)}>
            Show again
          </Button>
          <Button className="plain small" onPress={() => void writeSlowly()}>
            Write the input slowly
          </Button>
          <Button className="plain small" onPress={() => host.current?.cancelled('the person has stopped it')}>
            Cancel the call
          </Button>
          <Button className="plain small" onPress={() => void takeAway('the bench takes it away')}>
            Take it away
          </Button>
        </div>
      </details>
      {said.length > 0 && (
        <ol className="said" aria-label="What the view did">
          {said.map(({ id, what, text }) => (
            <li key={id}>
              <span className="quiet">{what}</span> {text}
            </li>
          ))}
        </ol>
      )}
    </section>
  );
}

/** The longest start of a JSON object that can be read, as hosts give it to views while a model writes. */
function healed(text: string): object {
  for (let end = text.length; end > 0; end--)
    for (const close of ['', '"', '"}', '}', '":null}', 'null}', '"}]}', ']}']) {
      try {
        const value: unknown = JSON.parse(text.slice(0, end) + close);
        if (typeof value === 'object' && value !== null) return value;
      } catch {
        // not yet
      }
    }
  return {};
}

interface ChoiceProps<T extends string> {
  readonly label: string;
  readonly values: readonly T[];
  readonly value: T;
  readonly onChange: (value: T) => void;
}

function Choice<T extends string>({ label, values, value, onChange }: ChoiceProps<T>) {
  return (
    <label className="quiet">
      {label}{' '}
      <select aria-label={label} value={value} onChange={(event) => onChange(event.target.value as T)}>
        {values.map((each) => (
          <option key={each}>{each}</option>
        ))}
      </select>
    </label>
  );
}

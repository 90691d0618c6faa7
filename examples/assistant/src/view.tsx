import { showView, toolViewOf } from 'jexo/view/host';
import { useEffect, useRef, useState } from 'react';
import type { Host } from './host.js';

/** The address of the sandbox, on an origin of its own; the server of this page says it. */
const sandbox = document.querySelector<HTMLMetaElement>('meta[name="sandbox"]')?.content ?? '';

/** The page’s own look, which the person may have set otherwise than the system’s. */
const themeHere = (): 'light' | 'dark' => {
  const { theme } = document.documentElement.dataset;
  return theme === 'dark' || (theme === undefined && matchMedia('(prefers-color-scheme: dark)').matches) ? 'dark' : 'light';
};

/** The page that a tool of a server shows with its answers. */
export function ToolView({ host, name, input, result }: { host: Host; name: string; input: object; result: object }) {
  const place = useRef<HTMLDivElement>(null);
  const [trouble, setTrouble] = useState<string>();
  const [calls, setCalls] = useState<readonly string[]>([]);
  const tool = host.tool(name);
  const uri = toolViewOf(tool?._meta).resourceUri;
  const isShown = sandbox !== '' && uri !== undefined && tool !== undefined;
  useEffect(() => {
    if (!isShown) return;
    const dark = matchMedia('(prefers-color-scheme: dark)');
    let view: ReturnType<typeof showView> | undefined;
    let isOver = false;
    const show = async () => {
      const page = await host.readFor(tool, uri);
      if (isOver || place.current === null) return;
      view = showView({
        container: place.current,
        sandbox,
        page,
        tool: { ...tool, name: tool.ownName },
        tools: () => host.toolsBeside(tool),
        context: { theme: themeHere(), locale: navigator.language, displayMode: 'inline', platform: 'web' },
        info: { name: 'assistant', version: '0.1.0' },
        // Straight to its server, without the model.
        callTool(wanted, given, signal) {
          // The person sees what their page does.
          setCalls((before) => [...before, `${wanted} ${JSON.stringify(given)}`].slice(-20));
          return host.callFor(tool, wanted, given, signal);
        },
        readResource: (wanted, signal) => host.readFor(tool, wanted, signal),
        onSay: (content) => host.say(tool, content),
        onRemember: (content) => host.remember(tool, content),
        onOpenLink: (url) => confirm(`Open ${url}?`) && open(url, '_blank', 'noopener') !== undefined,
      });
      view.input(input);
      view.result(result as never);
    };
    show().catch((error: unknown) => isOver || setTrouble((error as Error).message));
    const dress = () => view?.change({ theme: themeHere() });
    dark.addEventListener('change', dress);
    const look = new MutationObserver(dress);
    look.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] });
    return () => {
      isOver = true;
      dark.removeEventListener('change', dress);
      look.disconnect();
      void view?.close();
    };
    // One view for each answer; the answer does not change.
  }, [isShown, uri]);
  if (!isShown) return null;
  return (
    <>
      <div className="view" ref={place} />
      {calls.map((call, index) => (
        <p key={index} className="note quiet">
          The page has called <code>{call}</code>
        </p>
      ))}
      {trouble !== undefined && <p className="note warn">The view could not be shown: {trouble}</p>}
    </>
  );
}

import { showView, toolViewOf } from 'jexo/view/host';
import { useEffect, useRef, useState } from 'react';
import type { Host } from './host.js';

/** The address of the sandbox, on an origin of its own; the server of this page says it. */
const sandbox = document.querySelector<HTMLMetaElement>('meta[name="sandbox"]')?.content ?? '';

/** The page that a tool of a server shows with its answers. */
export function ToolView({ host, name, input, result }: { host: Host; name: string; input: object; result: object }) {
  const place = useRef<HTMLDivElement>(null);
  const [trouble, setTrouble] = useState<string>();
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
        context: { theme: dark.matches ? 'dark' : 'light', locale: navigator.language, displayMode: 'inline', platform: 'web' },
        info: { name: 'assistant', version: '0.1.0' },
        // Straight to its server, without the model.
        callTool: (wanted, given, signal) => host.callFor(tool, wanted, given, signal),
        readResource: (wanted, signal) => host.readFor(tool, wanted, signal),
        onSay: (content) => host.say(tool, content),
        onRemember: (content) => host.remember(tool, content),
        onOpenLink: (url) => confirm(`Open ${url}?`) && open(url, '_blank', 'noopener') !== undefined,
      });
      view.input(input);
      view.result(result as never);
    };
    show().catch((error: unknown) => isOver || setTrouble((error as Error).message));
    const dress = () => view?.change({ theme: dark.matches ? 'dark' : 'light' });
    dark.addEventListener('change', dress);
    return () => {
      isOver = true;
      dark.removeEventListener('change', dress);
      void view?.close();
    };
    // One view for each answer; the answer does not change.
  }, [isShown, uri]);
  if (!isShown) return null;
  return (
    <>
      <div className="view" ref={place} />
      {trouble !== undefined && <p className="note warn">The view could not be shown: {trouble}</p>}
    </>
  );
}

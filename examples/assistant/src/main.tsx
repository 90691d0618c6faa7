import { createRoot } from 'react-dom/client';
import { App } from './app.js';
import { Host, type ServerEntry } from './host.js';
import './style.css';

/**
 * `?server=hives=http://127.0.0.1:4300/mcp`, once for each server. A link may come from anybody: a server that is not on this machine is off
 * until the person switches it on.
 */
const named = new URLSearchParams(location.search).getAll('server').flatMap((each): ServerEntry[] => {
  const [, name, url] = /^([\w-]+)=(https?:\/\/.+)$/.exec(each) ?? [];
  return name === undefined || url === undefined
    ? []
    : [{ name, url, isOff: !URL.canParse(url) || !['127.0.0.1', 'localhost'].includes(new URL(url).hostname) }];
});

createRoot(document.getElementById('root')!).render(<App host={new Host(named)} />);

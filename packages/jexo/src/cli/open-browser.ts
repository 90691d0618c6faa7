import { spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { cacheFolder } from '../own-folder.js';

/** True where something opens addresses: on a Linux machine, a desktop has to be there. */
export function hasBrowser(): boolean {
  const { BROWSER, DISPLAY, WAYLAND_DISPLAY } = process.env;
  return Boolean(BROWSER) || process.platform === 'darwin' || process.platform === 'win32' || Boolean(DISPLAY ?? WAYLAND_DISPLAY);
}

/**
 * Hands the address to whatever opens addresses here, by way of a file that only this user can read: what stands on a command line
 * is shown to every user of the machine. No shell sees the address.
 * @param failed called when nothing opens it: the printed address is there still
 */
export function openBrowser(address: string, failed: () => void): void {
  const file = join(cacheFolder(), `open-${randomBytes(8).toString('hex')}.html`);
  // In a script element, an address could end it.
  const script = JSON.stringify(address).replaceAll('<', '\\u003c');
  writeFileSync(file, `<!doctype html><title>jexo</title><script>location.replace(${script})</script>\n`, { mode: 0o600, flag: 'wx' });
  const remove = () => rmSync(file, { force: true });
  process.once('exit', remove);
  setTimeout(remove, 30_000).unref();
  const [command, ...args] =
    process.platform === 'darwin' ? ['open'] : process.platform === 'win32' ? ['rundll32', 'url.dll,FileProtocolHandler'] : ['xdg-open'];
  const place = pathToFileURL(file).href;
  const child = spawn(process.env.BROWSER || command!, process.env.BROWSER ? [place] : [...args, place], {
    stdio: 'ignore',
    detached: true,
  });
  child.once('error', failed);
  child.unref();
}

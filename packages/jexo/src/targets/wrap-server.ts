import { bridgeSource, type WrapServerOptions } from '../bridge/bridge-source.js';
import type { Source } from '../offers/source.js';
import { connect, type ConnectOptions, type ConnectTarget } from './connect.js';

/**
 * Offers what another server offers: renamed, filtered, described, over whatever transport this server is served.
 *
 * @param target as `connect` takes it: an address, a command as a list, `hosts.json#name`, a server value
 * @param how how it is reached: headers, variables, a folder
 * @throws when it is read: JexoError JEXO_CHOICE; with `required`, what `connect` throws
 * @example
 * wrapServer('https://lab.example/mcp', { prefix: 'lab_', only: ['results_*'] })
 * wrapServer(['node', 'server.mjs'], { sessions: 'shared' })
 */
export function wrapServer(
  target: ConnectTarget,
  options: WrapServerOptions = {},
  how: Pick<ConnectOptions, 'headers' | 'env' | 'cwd' | 'inherit' | 'options' | 'kinds' | 'tap'> = {},
): Source {
  return bridgeSource((own) => connect(target, { ...how, ...own }), options.name ?? placeOf(target), options);
}

function placeOf(target: ConnectTarget): string {
  if (target instanceof URL) return target.href;
  if (typeof target === 'object' && target !== null && 'open' in target) return target.info.name;
  // What is no target is said when it is connected to.
  return Array.isArray(target) ? target.join(' ') : String(target);
}

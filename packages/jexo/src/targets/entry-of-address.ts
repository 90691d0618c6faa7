import { JexoError } from '../errors.js';
import type { HostEntry } from '../hosts/host-entry.js';
import { withoutPassword } from '../protocol/without-password.js';
import type { EntryHow } from './target-kind.js';

/**
 * How a host application reaches a target that is an address.
 *
 * @param instead how the command is written when the address holds a password
 * @throws JexoError JEXO_USAGE for an address with a password
 */
export function entryOfAddress(place: string, how: EntryHow, instead: string): HostEntry {
  if (withoutPassword(place) !== place)
    throw new JexoError('JEXO_USAGE', 'The address holds a password, which would stand in the configuration for everybody to read.', {
      where: withoutPassword(place),
      next: instead,
    });
  const [command = '', ...args] = how.serve;
  return { kind: 'command', command, args: [...args, place, ...how.serveOptions], env: how.env };
}

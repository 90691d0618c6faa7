import { existsSync } from 'node:fs';
import { resolve } from 'node:path';
import { JexoError } from '../errors.js';
import type { HostEntry } from '../hosts/host-entry.js';
import type { EntryHow } from './target-kind.js';

/** An entry that serves a file, or a document at an address, by this installation. @throws JexoError JEXO_TARGET_MISSING */
export async function entryOfFile(place: string, { serve, serveOptions, env }: EntryHow): Promise<HostEntry> {
  const isUrl = /^https?:/i.test(place);
  if (!isUrl && !existsSync(place)) throw new JexoError('JEXO_TARGET_MISSING', `There is no file ${place}.`, { where: place });
  const [command = '', ...args] = serve;
  return { kind: 'command', command, args: [...args, isUrl ? place : resolve(place), ...serveOptions], env };
}

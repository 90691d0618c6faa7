import { relative } from 'node:path';
import { JexoError } from '../errors.js';
import type { Choice } from '../offers/choose.js';
import { packBundle } from '../pack/bundle.js';
import { parseTarget } from '../targets/target.js';
import { reportOmitted, type RestChoice } from './connect-target.js';
import { keepStdoutForResults, note, onErr, printJson, symbols } from './terminal.js';

interface PackOptions {
  readonly out: string;
  readonly name?: string;
  readonly replace?: boolean;
  readonly json?: boolean;
  readonly choice?: Choice;
  readonly rest?: RestChoice;
}

export async function pack(target: string | undefined, options: PackOptions): Promise<void> {
  if (target === undefined)
    throw new JexoError('JEXO_USAGE', 'Say what to pack.', { next: 'As in: jexo pack hives.ts --as bundle --out dist/' });
  const { kind } = parseTarget(target);
  if ((kind !== 'module' && kind !== 'document') || /^https?:/i.test(target))
    throw new JexoError('JEXO_TARGET_UNKNOWN', `${target} is neither a module nor a document, and only these can be packed.`, {
      where: target,
    });
  keepStdoutForResults();
  const packed = await packBundle(target, options);
  if (options.json) return printJson(JSON.stringify(packed, null, 2));
  const shown = relative(process.cwd(), packed.file);
  reportOmitted(packed.omitted);
  note(
    `${onErr('moss', symbols.ok)} ${onErr('bold', packed.server.name)} ${packed.server.version} is packed into ${shown}: ${(packed.bytes / 1000).toFixed(0)} kB, ${packed.tools.length} ${packed.tools.length === 1 ? 'tool' : 'tools'}`,
  );
  note(`  Serve it anywhere with Node 20: node ${shown}   (over stdio), or with --http 4300`);
  note(`  Try it with: jexo inspect -- node ${shown}`);
}

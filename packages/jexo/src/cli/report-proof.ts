import type { Proof } from './prove-entry.js';
import { counted } from '../protocol/counted.js';
import { duration, note, onErr, symbols } from './terminal.js';

/** Says whether an entry works where a host starts it, and what to fix. */
export function reportProof({ works, tools, server, tookMs, troubles }: Proof): void {
  if (server !== undefined && (works || troubles.length > 0))
    note(
      `${works ? onErr('moss', symbols.ok) : onErr('ochre', symbols.warn)} Started as a host would: ${server.name} ${server.version} answered in ${duration(tookMs)} with ${counted(tools.length, 'tool')}`,
    );
  else note(`${onErr('brick', symbols.failed)} Started as a host would, it does not work.`);
  for (const { what, fix } of troubles) note(`  ${onErr('ochre', symbols.warn)} ${what}\n    ${fix}`);
}

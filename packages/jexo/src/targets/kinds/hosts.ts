import { JexoError } from '../../errors.js';
import type { TargetKind } from '../target-kind.js';
import { counted } from '../../protocol/counted.js';

/** A host application's whole configuration: `check` proves every entry; anything else wants to know which one. */
export const hostsKind: TargetKind = {
  kind: 'hosts',
  noun: 'a host application’s configuration',
  example: 'hosts.json',
  about: 'a host application’s configuration: check tests all its entries',
  async matches(text, { what, text: contents }) {
    if (what !== 'file' || !/\.(?:jsonc?|toml|ya?ml)$/i.test(text) || contents.length > mostCharacters) return false;
    const { openHostFile } = await import('../../hosts/host-file.js');
    const opened = await openHostFile(text).catch(() => undefined); // what is no configuration may be something else
    const isDocument = ['openapi', 'swagger'].some((key) => key in ((opened?.parsed.value ?? {}) as object));
    return opened !== undefined && !isDocument && Object.keys(opened.entries).length > 0;
  },
  async connect(file) {
    const { openHostFile } = await import('../../hosts/host-file.js');
    const names = Object.keys((await openHostFile(file)).entries);
    throw new JexoError(
      'JEXO_TARGET_UNKNOWN',
      `${file} is a host application’s configuration with ${counted(names.length, 'entry', 'entries')}.`,
      {
        where: file,
        next: `Name one of them: ${file}#${names[0]!}${names.length > 1 ? ` (there are ${names.join(', ')})` : ''}`,
      },
    );
  },
};

/** No real configuration is larger. */
const mostCharacters = 2_000_000;

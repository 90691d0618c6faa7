import { readFile } from 'node:fs/promises';
import { watch } from 'node:fs';
import { basename } from 'node:path';
import { resource, tool, type Source } from '../../src/index.js';

interface Reading {
  readonly hive: string;
  readonly kg: number;
}

/** Readings of hive scales in a JSON file, as a third party would wrap them. `journal` notes what is done with the source. */
export function wrapReadings(file: string, journal: string[] = [], frozen?: readonly Reading[]): Source {
  const readings = async () => frozen ?? (JSON.parse(await readFile(file, 'utf8')) as Reading[]);
  return {
    name: basename(file),
    async read({ progress, settings, signal }) {
      signal.throwIfAborted();
      const found = await readings();
      found.forEach(({ hive }, index) => progress(index + 1, found.length, hive));
      journal.push(`read ${found.length}`);
      return {
        offers: [
          tool('heaviest', { description: 'The heaviest hive.' }, async () => {
            const [first] = [...found].sort((a, b) => b.kg - a.kg);
            return `${first!.hive}: ${first!.kg} ${settings.SCALE_UNIT ?? 'kg'}`;
          }),
          ...found.map(({ hive, kg }) => resource(`scale://${hive}`, { name: hive }, () => `${kg} kg`)),
        ],
        omitted: found
          .filter(({ kg }) => Number.isNaN(Number(kg)))
          .map(({ hive }) => ({
            name: hive,
            what: 'scale',
            where: file,
            why: 'its reading is not a number',
            next: 'Correct the file.',
            code: 'JEXO_DOCUMENT' as const,
          })),
        settings: [{ variable: 'SCALE_UNIT', purpose: 'the unit of the scales', secret: false }],
        files: frozen === undefined ? [file] : [],
      };
    },
    ...(frozen === undefined && {
      watch(changed: () => void) {
        const watcher = watch(file, changed);
        journal.push('watch');
        return () => {
          watcher.close();
          journal.push('unwatch');
        };
      },
    }),
    freeze: readings,
    thaw: (kept) => wrapReadings(file, journal, kept as readonly Reading[]),
    close: () => void journal.push('close'),
  };
}

import { createHash } from 'node:crypto';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type { Notes } from '../inspect/bench-api.js';
import type { ConnectionSpec } from '../inspect/connection.js';
import { cacheFolder } from '../own-folder.js';

interface Kept {
  readonly page: string;
  /** Connections made in the page, without their environment and headers: those may hold secrets. */
  readonly added: readonly ConnectionSpec[];
}

export interface BenchNotes extends Notes {
  added(): readonly ConnectionSpec[];
  keepAdded(specs: readonly ConnectionSpec[]): void;
}

/** What a bench on these targets keeps from one start to the next. Losing it costs a person some typing, nothing else. */
export function openBenchNotes(targets: readonly string[]): BenchNotes {
  const name = createHash('sha256')
    .update(JSON.stringify([process.cwd(), targets]))
    .digest('hex')
    .slice(0, 24);
  const file = join(cacheFolder(), 'benches', `${name}.json`);
  let kept: Kept = { page: '', added: [] };
  try {
    kept = { ...kept, ...(JSON.parse(readFileSync(file, 'utf8')) as Partial<Kept>) };
  } catch {
    // the first bench on these targets
  }
  const write = () => {
    try {
      mkdirSync(dirname(file), { recursive: true, mode: 0o700 });
      writeFileSync(file, JSON.stringify(kept), { mode: 0o600 });
    } catch {
      // a folder that cannot be written to: this bench is forgotten when it ends
    }
  };
  return {
    load: () => kept.page,
    save(page) {
      kept = { ...kept, page };
      write();
    },
    added: () => kept.added,
    keepAdded(specs) {
      kept = { ...kept, added: specs.map(({ target, command }) => ({ target, ...(command && { command }) })) };
      write();
    },
  };
}

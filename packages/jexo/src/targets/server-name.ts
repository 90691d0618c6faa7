import { existsSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';

/** A name that hosts accept everywhere: letters, digits and underscores. */
export function serverName(text: string): string {
  return text.replaceAll(/[^A-Za-z0-9_]+/g, '_').replace(/^_/, '') || 'functions';
}

/** The version of the project a file belongs to; `0.0.0` when it says none. */
export function projectVersion(file: string): string {
  for (let folder = dirname(file); ; folder = dirname(folder)) {
    const manifest = join(folder, 'package.json');
    if (existsSync(manifest)) {
      try {
        const { version } = JSON.parse(readFileSync(manifest, 'utf8')) as { version?: unknown };
        if (typeof version === 'string' && version !== '') return version;
      } catch {
        return '0.0.0'; // a manifest that cannot be read is not ours to complain of
      }
    }
    if (folder === dirname(folder)) return '0.0.0';
  }
}

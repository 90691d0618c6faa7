import { existsSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { JexoError } from './errors.js';

/** The path of a file that comes with this package, by its place in it: `dist/page`. */
export function packageFile(name: string): string {
  for (let folder = dirname(fileURLToPath(import.meta.url)); ; folder = dirname(folder)) {
    const found = join(folder, name);
    if (existsSync(found)) return found;
    if (folder === dirname(folder)) throw new JexoError('JEXO_INSTALLATION', `${name} is missing from this installation of jexo.`);
  }
}

import { existsSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { brotliDecompressSync } from 'node:zlib';
import { JexoError } from './errors.js';

/** The path of a file that comes with this package, by its place in it: `dist/page`. */
export function packageFile(name: string): string {
  for (let folder = dirname(fileURLToPath(import.meta.url)); ; folder = dirname(folder)) {
    const found = join(folder, name);
    if (existsSync(found)) return found;
    if (folder === dirname(folder)) throw new JexoError('JEXO_INSTALLATION', `${name} is missing from this installation of jexo.`);
  }
}

/** The text of a file that comes compressed with this package: `dist/front.js` is kept as `dist/front.js.br`. */
export function packageText(name: string): string {
  return brotliDecompressSync(readFileSync(packageFile(`${name}.br`))).toString('utf8');
}

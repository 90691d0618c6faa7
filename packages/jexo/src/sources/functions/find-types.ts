import { existsSync, readFileSync } from 'node:fs';
import { dirname, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { JexoError } from '../../errors.js';

/**
 * The file whose types describe a module. Compiled code names its source, `./hives.ts`, where only the compiled file lies: then it is the
 * source that the compiled file's source map leads to, or the declaration beside it.
 *
 * @throws JexoError JEXO_TARGET_MISSING with what to do, when there is none of them
 */
export function findTypes(path: string): string {
  const file = resolve(path);
  if (existsSync(file)) return file;
  const [, stem, ending] = /^(.*)\.([cm]?)tsx?$/.exec(file) ?? [];
  if (stem === undefined) throw missing(path);
  const source = sourceOf(`${stem}.${ending}js`);
  const declaration = `${stem}.d.${ending}ts`;
  const found = [source, declaration].find((each) => each !== undefined && existsSync(each));
  if (found === undefined) throw missing(path, declaration);
  return found;
}

function missing(path: string, declaration?: string): JexoError {
  return new JexoError('JEXO_TARGET_MISSING', `There is no file ${path}, whose types describe the tools.`, {
    where: path,
    ...(declaration !== undefined && {
      next: `Compile with "declaration": true in tsconfig.json, so that ${declaration.replace(/^.*[\\/]/, '')} lies beside the code, or ship the source.`,
    }),
  });
}

/** Where a compiled file's source map says that it comes from. */
function sourceOf(compiled: string): string | undefined {
  try {
    const { sourceRoot = '', sources } = JSON.parse(readFileSync(`${compiled}.map`, 'utf8')) as { sourceRoot?: string; sources: string[] };
    const [first] = sources;
    if (first === undefined || sources.length > 1) return undefined;
    const place = sourceRoot + first;
    return place.startsWith('file:') ? fileURLToPath(place) : resolve(dirname(compiled), place);
  } catch {
    return undefined; // no source map, or one that says nothing
  }
}

import { lstatSync, mkdirSync, readFileSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { dirname } from 'node:path';
import { JexoError, messageOf } from '../errors.js';

/**
 * Writes a packed file and reads it back.
 * @param from what was packed, which must not be overwritten
 * @throws JexoError JEXO_PACK
 */
export function writeBundle(
  target: string,
  code: string,
  from: string,
  replace: boolean,
): { readonly file: string; readonly bytes: number } {
  if (target === from)
    throw new JexoError('JEXO_PACK', `Packing into ${dirname(target)} would overwrite ${from} itself.`, {
      where: target,
      next: 'Choose another folder for --out.',
    });
  if (!replace && isThere(target))
    throw new JexoError('JEXO_PACK', `${target} is there already, and nothing is overwritten.`, {
      where: target,
      next: 'Put the new one in its place with --replace, or choose another folder.',
    });
  try {
    mkdirSync(dirname(target), { recursive: true });
    // Written beside and moved into place: a link that lies there is replaced, not followed.
    const beside = `${target}.${process.pid}.tmp`;
    rmSync(beside, { force: true });
    writeFileSync(beside, code, { mode: 0o755, flag: 'wx' });
    renameSync(beside, target);
    if (readFileSync(target, 'utf8') !== code) throw new Error('it does not hold what was written');
  } catch (error) {
    throw new JexoError('JEXO_PACK', `${target} cannot be written: ${messageOf(error)}`, { where: target, cause: error });
  }
  return { file: target, bytes: statSync(target).size };
}

function isThere(path: string): boolean {
  try {
    lstatSync(path);
    return true;
  } catch {
    return false;
  }
}

import { readdir } from 'node:fs/promises';
import { realpathSync } from 'node:fs';
import { dirname, isAbsolute, join, relative, resolve, sep } from 'node:path';
import { JexoError } from '../errors.js';
import type { SheetStore } from '../inspect/bench-sheets.js';
import { isCallSheet, isRequestSheet, readIfThere, targetFromSheet, writeSheet } from './keep-call.js';

/** Folders that hold other people's files, or none of a person's own. */
const passedOver = new Set(['node_modules', 'dist', 'build', 'coverage']);
const deepest = 4;

/** Where a path leads; undefined when nothing is there. */
function real(path: string): string | undefined {
  try {
    return realpathSync(path);
  } catch {
    return undefined;
  }
}

/** The sheets in the folder one is in, and in those below it. */
export function sheetFiles(folder = process.cwd()): SheetStore {
  const inside = (name: string): string => {
    const path = resolve(folder, name);
    const back = relative(folder, path);
    if (isAbsolute(back) || back.startsWith('..'))
      throw new JexoError('JEXO_USAGE', `${name} lies outside the folder the bench was started in.`, {
        where: name,
        next: 'Give a name inside it.',
      });
    // A link may lead out of the folder where the name does not.
    const root = real(folder) ?? folder;
    for (const place of [dirname(path), path]) {
      const found = real(place);
      if (found !== undefined && found !== root && !found.startsWith(root + sep))
        throw new JexoError('JEXO_USAGE', `${name} is a link that leads outside the folder the bench was started in.`, {
          where: name,
          next: 'Give a name inside it.',
        });
    }
    return path;
  };
  return {
    env: process.env,
    async list() {
      const found: string[] = [];
      const visit = async (at: string, depth: number): Promise<void> => {
        for (const entry of await readdir(at, { withFileTypes: true }).catch(() => [])) {
          const path = join(at, entry.name);
          if (entry.isDirectory()) {
            if (depth < deepest && !passedOver.has(entry.name) && !entry.name.startsWith('.')) await visit(path, depth + 1);
          } else if (isCallSheet(entry.name) || isRequestSheet(entry.name)) found.push(relative(folder, path).split(sep).join('/'));
        }
      };
      await visit(folder, 0);
      return found.sort();
    },
    load: (name) => readIfThere(inside(name)),
    save: (name, text) => writeSheet(inside(name), text),
    targetFrom: (name, target) => targetFromSheet(inside(name), target) ?? target,
  };
}

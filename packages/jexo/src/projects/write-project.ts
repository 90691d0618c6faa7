import { mkdir, readdir, rm, writeFile } from 'node:fs/promises';
import { dirname, join, resolve } from 'node:path';
import { JexoError, messageOf } from '../errors.js';
import type { ProjectFiles } from './project-files.js';

/**
 * Writes a project into a folder that is empty or not there yet; nothing is ever overwritten.
 * @returns the paths written
 * @throws JexoError JEXO_USAGE when the folder holds something already, or cannot be written to
 */
export async function writeProject(folder: string, files: ProjectFiles): Promise<readonly string[]> {
  const root = resolve(folder);
  const there = await readdir(root).catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return [];
    throw new JexoError('JEXO_USAGE', `${folder} cannot be used: ${error.code === 'ENOTDIR' ? 'it is a file' : error.message}.`, {
      where: folder,
    });
  });
  const standing = there.filter((name) => name !== '.git');
  if (standing.length > 0)
    throw new JexoError(
      'JEXO_USAGE',
      `${folder} holds ${standing.length === 1 ? standing[0]! : `${standing.length} files`} already, and nothing is overwritten.`,
      { where: folder, next: 'Give another folder, or empty this one.' },
    );
  const written: string[] = [];
  try {
    for (const [path, text] of Object.entries(files)) {
      const file = join(root, path);
      await mkdir(dirname(file), { recursive: true });
      await writeFile(file, text, { flag: 'wx', mode: path === '.env' ? 0o600 : 0o644 });
      written.push(path);
    }
  } catch (error) {
    await Promise.all(written.map((path) => rm(join(root, path), { force: true })));
    throw new JexoError('JEXO_USAGE', `${folder} cannot be written to: ${messageOf(error)}`, { where: folder, cause: error });
  }
  return written;
}

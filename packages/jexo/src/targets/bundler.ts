import { JexoError, messageOf } from '../errors.js';

/**
 * Loads esbuild, which compiles TypeScript and packs servers. It is an optional dependency: a server that is built already
 * does not need it.
 *
 * @param what what it is needed for, as the beginning of a sentence
 * @throws JexoError JEXO_PACKAGE_MISSING when it is not installed
 * @example const { build } = await loadBundler('Running hives.ts');
 */
export async function loadBundler(what: string): Promise<typeof import('esbuild')> {
  try {
    return await import('esbuild');
  } catch (error) {
    throw new JexoError('JEXO_PACKAGE_MISSING', `${what} needs the package esbuild, which could not be loaded: ${messageOf(error)}`, {
      where: 'esbuild',
      next: 'Install it where Jexo is installed: npm install esbuild',
      cause: error,
    });
  }
}

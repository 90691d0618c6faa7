import { readdirSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { JexoError, messageOf } from '../../errors.js';
import { loadPackage } from '../../optional-package.js';
import { singlePage } from './vite-plugin.js';
import { watchFiles } from './watch-files.js';

type Vite = Pick<typeof import('vite'), 'build'>;

/** A page made of the folder of an app. */
export interface BuiltView {
  /** The page, made again when a file of the folder has changed. @throws JexoError JEXO_DEFINITION, JEXO_PACKAGE_MISSING */
  html(): Promise<string>;
  watch(changed: () => void): () => void;
}

const ignored = new Set(['node_modules', 'dist', '.git']);

/** Files under a folder, without those that a build makes. */
function filesIn(folder: string): string[] {
  return readdirSync(folder, { withFileTypes: true }).flatMap((entry) => {
    if (ignored.has(entry.name)) return [];
    const path = join(folder, entry.name);
    return entry.isDirectory() ? filesIn(path) : [path];
  });
}

export function buildView(folder: string): BuiltView {
  let made: { readonly stamp: string; readonly html: Promise<string> } | undefined;
  const stampOf = () =>
    filesIn(folder)
      .map((path) => `${path} ${statSync(path).mtimeMs}`)
      .join();
  return {
    async html() {
      const stamp = stampOf();
      if (made?.stamp !== stamp) made = { stamp, html: make(folder) };
      return made.html;
    },
    watch: (changed) => watchFiles(filesIn(folder), changed),
  };
}

async function make(root: string): Promise<string> {
  const { build } = await loadPackage<Vite>('vite');
  try {
    const output = await build({ root, logLevel: 'silent', plugins: [singlePage()], build: { write: false } });
    const files = [output].flat().flatMap((each) => ('output' in each ? each.output : []));
    const page = files.find(({ fileName }) => fileName === 'index.html');
    if (page === undefined || !('source' in page)) throw new Error('Vite has made no index.html');
    return String(page.source);
  } catch (error) {
    throw new JexoError('JEXO_DEFINITION', `The view in ${root} could not be built: ${messageOf(error)}`, {
      where: root,
      next: 'Build it by itself for the whole report: npx vite build',
      cause: error,
    });
  }
}

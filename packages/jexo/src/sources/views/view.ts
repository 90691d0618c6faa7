import { existsSync, statSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import { join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { JexoError, messageOf } from '../../errors.js';
import { viewOffer, type ViewDefinition, type ViewOffer } from '../../offers/view.js';
import { buildView } from './build-view.js';
import { watchFiles } from './watch-files.js';

/** What `view` takes beside the name: the page itself, a file that holds it, or the folder of an app that becomes one. */
export type ViewOptions = Omit<ViewDefinition, 'html' | 'watch'> &
  (
    | { readonly html: ViewDefinition['html']; readonly file?: never; readonly folder?: never }
    | {
        /** A file with a whole page. It is read for each reading, so that a save shows at once. */
        readonly file: string | URL;
        readonly html?: never;
        readonly folder?: never;
      }
    | {
        /** The folder of an app with an `index.html`. It is made into one page with Vite and `jexo/vite`, again after each save. */
        readonly folder: string | URL;
        readonly html?: never;
        readonly file?: never;
      }
  );

/**
 * Describes the page that hosts show with a tool’s answers (Extensions, "Interactive views"): a resource `ui://view/<name>`. Hosts show it in a sandbox
 * in which nothing outside it is reachable but what `csp` names. Clients that show no views do not see it.
 *
 * @param name letters, digits, dots, dashes
 * @throws JexoError JEXO_DEFINITION for a wrong name or origin; when it is read, for a file that is not there
 * @example
 * const weight = view('hive-weight', { file: new URL('./hive-weight.html', import.meta.url), description: 'A hive over the season.' });
 * tool('hive_weight', { description: '…', input, output, view: weight }, ({ hive }) => season(hive));
 */
export function view(name: string, definition: ViewOptions): ViewOffer {
  const { html, file, folder, ...rest } = definition;
  if (file !== undefined) {
    const path = pathOf(file);
    return {
      ...viewOffer(name, { ...rest, html: () => readPage(name, path), watch: (changed) => watchFiles([path], changed) }),
      where: path,
    };
  }
  if (folder !== undefined) {
    const path = pathOf(folder);
    const built = buildView(path);
    const html = () => {
      requireThere(name, join(path, 'index.html'), 'page');
      return built.html();
    };
    return { ...viewOffer(name, { ...rest, html, watch: (changed) => built.watch(changed) }), where: path };
  }
  return viewOffer(name, { ...rest, html });
}

function pathOf(file: string | URL): string {
  return typeof file === 'string' && !file.startsWith('file:') ? resolve(file) : fileURLToPath(file);
}

function requireThere(name: string, path: string, what: string): void {
  if (existsSync(path) && statSync(path).isFile()) return;
  throw new JexoError('JEXO_DEFINITION', `view ${name}: there is no ${what} ${path}.`, {
    where: path,
    next: `Give a path that is resolved from the module: new URL('./${name}.html', import.meta.url).`,
  });
}

async function readPage(name: string, path: string): Promise<string> {
  requireThere(name, path, 'file');
  try {
    return await readFile(path, 'utf8');
  } catch (error) {
    throw new JexoError('JEXO_DEFINITION', `view ${name} could not be read: ${messageOf(error)}`, { where: path, cause: error });
  }
}

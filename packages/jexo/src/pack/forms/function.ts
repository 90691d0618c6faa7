import { JexoError } from '../../errors.js';
import { needs } from './names.js';
import type { PackForm } from './form.js';

/** A handler of web-standard requests, for hosts of functions. */
export const functionForm: PackForm = {
  name: 'function',
  about: 'one handler of web-standard requests, for serverless and edge hosts',
  entry: 'fetch',
  make(bundle) {
    const { name, code, map, beside, packages } = bundle;
    if (beside.length > 0 || packages.length > 0)
      throw new JexoError(
        'JEXO_PACK',
        `Hosts of functions have no disk and no packages: ${[...beside.map(({ as }) => as), ...packages].join(', ')} would be missing.`,
        {
          next: 'Pack it as a package or a container.',
        },
      );
    const found = /(?:from|import\s*\(?)\s*["'](node:[\w/]+|fs|path|os|crypto|http|https|net|child_process|worker_threads)["']/.exec(code);
    if (found !== null)
      throw new JexoError('JEXO_PACK', `The code needs ${found[1]}, which hosts of functions do not have.`, {
        next: 'Pack it as a package or a container, or do without that module.',
      });
    const file = `${name}.mjs`;
    return {
      files: {
        [file]: { text: map === undefined ? code : `${code}//# sourceMappingURL=${file}.map\n` },
        ...(map !== undefined && { [`${file}.map`]: { text: map } }),
      },
      copies: [],
      start: undefined,
      next: [
        ...needs(bundle),
        `Where the host wants a module of workers, this is it: export default { fetch }.`,
        `Where it wants a function of events, name its export handler.`,
      ],
    };
  },
};

import { copiesBelow, installs, needs } from './names.js';
import type { PackForm } from './form.js';

/** One file that needs only Node. */
export const fileForm: PackForm = {
  name: 'file',
  about: 'one file that needs only Node',
  entry: 'run',
  make(bundle) {
    const { name, code, map } = bundle;
    const file = `${name}.mjs`;
    return {
      files: {
        [file]: { text: map === undefined ? code : `${code}//# sourceMappingURL=${file}.map\n`, isRun: true },
        ...(map !== undefined && { [`${file}.map`]: { text: map } }),
      },
      copies: copiesBelow(bundle),
      start: file,
      next: [
        ...needs(bundle),
        ...installs(bundle),
        `Serve it anywhere with Node 20: node ${file}   (over stdio), or with --http 4300`,
        `Try it with: jexo inspect -- node ${file}`,
      ],
    };
  },
};

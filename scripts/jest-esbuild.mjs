// Lets Jest run TypeScript: types are taken out, nothing else is changed. The types themselves are checked by `npm run types`.
import { createHash } from 'node:crypto';
import { transformSync } from 'esbuild';

export default {
  getCacheKey: (source, path) => createHash('sha256').update(source).update(path).digest('hex'),
  process(source, path) {
    const { code, map } = transformSync(source, { loader: 'ts', format: 'esm', target: 'node20', sourcefile: path, sourcemap: true });
    return { code, map };
  },
};

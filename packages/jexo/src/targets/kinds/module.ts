import { basename, extname, resolve } from 'node:path';
import { JexoError } from '../../errors.js';
import { defineServer, isServer, type Server } from '../../offers/define-server.js';
import { wrapFunctions } from '../../sources/functions/wrap-functions.js';
import { entryOfFile } from '../entry-of-file.js';
import { projectVersion, serverName } from '../server-name.js';
import type { TargetKind } from '../target-kind.js';

/** A module: the server it exports, or its exported functions as tools. */
export const moduleKind: TargetKind = {
  kind: 'module',
  noun: 'a module',
  example: 'hives.ts',
  about: 'a module: its server, or its exported functions as tools',
  runsCode: true,
  matches: (text) => /\.[cm]?[jt]sx?$/i.test(text) && !/\.d\.[cm]?ts$/i.test(text) && !/^[a-z]+:\/\//i.test(text),
  async open(path, how) {
    const { loadModule } = await import('../load-module.js');
    const { namespace, files } = await loadModule(path, how);
    return { server: moduleServer(path, namespace), files };
  },
  async pack(path, how) {
    const { loadModule } = await import('../load-module.js');
    const file = resolve(path);
    const { namespace } = await loadModule(file, how);
    const { name, version } = moduleServer(path, namespace).info;
    const wrapped = `wrapFunctions(module, { types: ${JSON.stringify(basename(file))} })`;
    return {
      imports: `import * as module from ${JSON.stringify(file)};`,
      server: isServer(namespace.default)
        ? 'module.default'
        : `defineServer({ ...${JSON.stringify({ name, version })}, offers: [${wrapped}] })`,
      from: file,
      name: basename(file, extname(file)),
    };
  },
  hostEntry: entryOfFile,
};

/** @throws JexoError JEXO_NOTHING_OFFERED */
function moduleServer(path: string, namespace: Readonly<Record<string, unknown>>): Server {
  if (isServer(namespace.default)) return namespace.default;
  const offersSomething = Object.values(namespace).some(
    (value) => typeof value === 'function' || (typeof value === 'object' && value !== null),
  );
  if (!offersSomething) throw new JexoError('JEXO_NOTHING_OFFERED', `${path} exports no function and no server.`, { where: path });
  const file = resolve(path);
  return defineServer({
    name: serverName(basename(file, extname(file))),
    version: projectVersion(file),
    offers: [wrapFunctions(namespace, { types: file })],
  });
}

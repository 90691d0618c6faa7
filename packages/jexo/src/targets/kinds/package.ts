import { JexoError } from '../../errors.js';
import { defineServer } from '../../offers/define-server.js';
import { wrapFunctions } from '../../sources/functions/wrap-functions.js';
import { projectVersion, serverName } from '../server-name.js';
import type { TargetKind } from '../target-kind.js';

/** An installed package, by a bare name as an import would write it; a path inside the package may follow. */
export const packageKind: TargetKind = {
  kind: 'package',
  noun: 'a package',
  example: 'some-package',
  about: 'an installed package: its functions as tools, read from its types',
  runsCode: true,
  matches: (text) => /^(?:@[\w.-]+\/)?[A-Za-z_][\w-]*(?:\.js)?(?:\/[\w.-]+)*$/.test(text),
  async open(name) {
    const { loadPackage } = await import('../load-module.js');
    const { namespace, files } = await loadPackage(name);
    const server = defineServer({
      name: serverName(name),
      version: projectVersion(files[0]!),
      offers: [wrapFunctions(namespace, { types: name })],
    });
    return { server, files: [] };
  },
  async pack(name, how) {
    const { info } = (await packageKind.open!(name, how)).server;
    const about = JSON.stringify({ name: info.name, version: info.version });
    return {
      imports: `import * as module from ${JSON.stringify(name)};`,
      server: `defineServer({ ...${about}, offers: [wrapFunctions(module, { types: ${JSON.stringify(name)} })] })`,
      from: `${process.cwd()}/`,
      name: info.name,
    };
  },
  async hostEntry(name) {
    throw new JexoError('JEXO_TARGET_UNKNOWN', `${name} is a package, which a host would look for in a folder of its own.`, {
      where: name,
      next: 'Write a module that wraps it, and register that.',
    });
  },
};

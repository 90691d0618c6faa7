import { existsSync } from 'node:fs';
import { isAbsolute, resolve } from 'node:path';
import { connectLink } from '../../client/connect-link.js';
import { JexoError } from '../../errors.js';
import { findOnPath } from '../find-on-path.js';
import type { TargetKind } from '../target-kind.js';

/** A command that starts a server: `-- node server.mjs` at the terminal, a list in code. */
export const commandKind: TargetKind<readonly string[]> = {
  kind: 'command',
  noun: 'a command',
  example: '-- node server.mjs',
  about: 'a command that starts a server',
  matches: () => true,
  async connect([command = '', ...args], options) {
    const { stdioLink } = await import('../../transports/stdio-link.js');
    const { env, cwd, inherit } = options;
    const how = { ...(env && { env }), ...(cwd !== undefined && { cwd }), ...(inherit && { inherit }) };
    return connectLink(stdioLink({ command, args, ...how }, options), options);
  },
  async bridge(words) {
    const { bridgeTarget } = await import('../bridge-target.js');
    return bridgeTarget(words, {}, words.join(' '));
  },
  name: (words) => (words.findLast((word) => !word.startsWith('-')) ?? 'server').replace(/^.*[\\/]/, '').replace(/\.\w+$/, ''),
  /** Whole paths, and nothing that a shell would have to find. */
  async hostEntry([program = '', ...args], { env }) {
    const found = isAbsolute(program) ? program : program.includes('/') ? resolve(program) : findOnPath(program, process.env.PATH ?? '');
    if (found === undefined) throw new JexoError('JEXO_COMMAND_MISSING', `There is no command ${program}.`, { where: program });
    const whole = (arg: string) => (!isAbsolute(arg) && !arg.startsWith('-') && existsSync(arg) ? resolve(arg) : arg);
    return { kind: 'command', command: found, args: args.map(whole), env };
  },
};

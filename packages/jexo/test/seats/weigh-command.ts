import type { CliCommand } from '../../src/cli/command.js';
import { takeTarget } from '../../src/cli/connect-target.js';
import { number } from '../../src/cli/options.js';
import { print } from '../../src/cli/terminal.js';
import { withClient, type ClientCommandOptions } from '../../src/cli/with-client.js';

/** A command as a third party would write it, in one file. */
export const command: CliCommand<ClientCommandOptions & { readonly least: number }> = {
  name: 'weigh',
  about: 'say which hive is heaviest, and whether it is heavy enough',
  operands: ['[target]'],
  options: [{ flags: '--least <kg>', about: 'exit with 1 when none is so heavy', default: 25, read: number('--least', 0, 200) }],
  takes: ['open', 'connect'],
  help: `Examples:
  jexo weigh season.scales.json --least 30`,
  run({ operands, command: words, options }) {
    const { target } = takeTarget(operands, words, 'As in: jexo weigh season.scales.json');
    return withClient(target, options, async ({ client }) => {
      const { content } = await client.call('heaviest');
      const [block] = content;
      const text = block?.type === 'text' ? block.text : '';
      if (Number(/\d+/.exec(text.split(': ')[1] ?? '')?.[0]) < options.least) return 1;
      print(text);
      return 0;
    });
  },
};

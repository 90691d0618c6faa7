import { relative } from 'node:path';
import { JexoError } from '../../errors.js';
import { packBundle } from '../../pack/bundle.js';
import type { CliCommand, Invocation } from '../command.js';
import { reportOmitted } from '../connect-target.js';
import { json } from '../options.js';
import { keepStdoutForResults, note, onErr, printJson, symbols } from '../terminal.js';

interface PackOptions {
  readonly out: string;
  readonly name?: string;
  readonly replace?: boolean;
  readonly json?: boolean;
}

async function pack({ operands: [target], options }: Invocation<PackOptions>): Promise<void> {
  if (target === undefined)
    throw new JexoError('JEXO_USAGE', 'Pack what? No target was given.', { next: 'As in: jexo pack hives.ts --as file --out dist/' });
  keepStdoutForResults();
  const { opening, out, name, replace } = options;
  const packed = await packBundle(target, { out, ...opening, ...(name !== undefined && { name }), ...(replace && { replace }) });
  if (options.json) return printJson(JSON.stringify(packed, null, 2));
  const shown = relative(process.cwd(), packed.file);
  reportOmitted(packed.omitted);
  note(
    `${onErr('moss', symbols.ok)} ${onErr('bold', packed.server.name)} ${packed.server.version} is packed into ${shown}: ${(packed.bytes / 1000).toFixed(0)} kB, ${packed.tools.length} ${packed.tools.length === 1 ? 'tool' : 'tools'}`,
  );
  for (const { variable, purpose } of packed.settings) note(`  It needs ${variable}: ${purpose}`);
  note(`  Serve it anywhere with Node 20: node ${shown}   (over stdio), or with --http 4300`);
  note(`  Try it with: jexo inspect -- node ${shown}`);
}

export const command: CliCommand<PackOptions> = {
  name: 'pack',
  about: 'write a server as one file that needs only Node',
  operands: ['[target]'],
  options: [
    { flags: '--as <form>', about: 'what to write', choices: ['file'], default: 'file' },
    { flags: '--out <folder>', about: 'where to write it', isRequired: true },
    { flags: '--replace', about: 'replace an existing file' },
    { flags: '--name <name>', about: 'the server’s name' },
    json,
  ],
  takes: ['pack'],
  chooses: true,
  help: `Examples:
  jexo pack hives.ts --as file --out dist/
  jexo pack api.openapi.yaml --only "GET *" --out dist/
  node dist/hives.mjs                serves over stdio
  node dist/hives.mjs --http 4300    serves over HTTP

The file needs only Node. Packages, types and documents are built in; secrets are read where it runs.`,
  run: pack,
};

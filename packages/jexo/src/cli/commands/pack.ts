import { join, relative } from 'node:path';
import { JexoError } from '../../errors.js';
import { compareListings } from '../../pack/compare.js';
import { forms, pack } from '../../pack/pack.js';
import { listArtefact, listServer } from '../../pack/try-artefact.js';
import { openTargets } from '../../targets/open-targets.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { reportOmitted } from '../connect-target.js';
import { json } from '../options.js';
import { reportChanges } from '../report-changes.js';
import { keepStdoutForResults, note, onErr, printJson, symbols } from '../terminal.js';
import { counted } from '../../protocol/counted.js';

interface PackOptions {
  readonly as: string;
  readonly out?: string;
  readonly name?: string;
  readonly replace?: boolean;
  readonly json?: boolean;
  readonly publishAs?: string;
  readonly publicUrl?: string;
  readonly baseImage?: string;
  readonly signKey?: string;
  readonly sourceMap?: boolean;
  readonly check?: string;
}

async function run({ operands: targets, options }: Invocation<PackOptions>): Promise<ExitCode> {
  if (targets.length === 0)
    throw new JexoError('JEXO_USAGE', 'Pack what? No target was given.', { next: 'As in: jexo pack hives.ts --as file --out dist/' });
  if (options.check !== undefined) return check(targets, options, options.check);
  const { opening, out, json: asJson, check: _check, ...rest } = options;
  if (out === undefined)
    throw new JexoError('JEXO_USAGE', 'Where should it be written? Give a folder with --out.', {
      where: '--out',
      next: 'As in: --out dist/',
    });
  keepStdoutForResults();
  const packed = await pack(targets, { ...rest, ...opening, out });
  if (asJson) {
    const file = packed.as === 'file' ? { file: join(out, packed.files.find(({ path }) => path.endsWith('.mjs'))!.path) } : {};
    return printJson(JSON.stringify({ ...file, ...packed }, null, 2));
  }
  const shown = relative(process.cwd(), out) || '.';
  reportOmitted(packed.omitted);
  const { server, tools, bytes, files, tried } = packed;
  note(
    `${onErr('moss', symbols.ok)} ${onErr('bold', server.name)} ${server.version} is packed into ${shown}: ${kilobytes(bytes)}, ${counted(tools.length, 'tool')}`,
  );
  const widest = Math.max(...files.map(({ path }) => path.length));
  for (const { path, bytes: size } of files) note(`  ${path.padEnd(widest + 2)}${onErr('quiet', kilobytes(size))}`);
  if (tried) note('  Started in an empty folder, it offers what its target offers.');
  for (const line of packed.next) note(`  ${line}`);
}

const kilobytes = (bytes: number) => (bytes < 1000 ? `${bytes} bytes` : `${(bytes / 1000).toFixed(0)} kB`);

/** Compares an artefact that was made earlier with what its target offers now. */
async function check(
  targets: readonly string[],
  { opening, name, json: asJson }: Invocation<PackOptions>['options'],
  artefact: string,
): Promise<ExitCode> {
  const before = await listArtefact(artefact);
  const { server } = await openTargets(targets, { ...opening, ...(name !== undefined && { name }) });
  try {
    return reportChanges(compareListings(before, await listServer(server)), artefact, asJson === true);
  } finally {
    await server.close();
  }
}

export const command: CliCommand<PackOptions> = {
  name: 'pack',
  about: 'pack a server for where it will live',
  operands: [['[targets...]', 'several targets are packed as one server']],
  options: [
    { flags: '--as <form>', about: 'what to write', choices: forms.map(({ name }) => name), default: 'file' },
    { flags: '--out <folder>', about: 'where to write it' },
    { flags: '--replace', about: 'replace what is there' },
    { flags: '--name <name>', about: 'the server’s name' },
    { flags: '--publish-as <name>', about: 'of package, manifest and kubernetes: the name of the package or image' },
    { flags: '--public-url <url>', about: 'where it will be reached: https://apiary.example/mcp' },
    { flags: '--base-image <image>', about: 'of container and kubernetes: the image to start from' },
    { flags: '--sign-key <file>', about: 'of manifest: an Ed25519 key (PEM) that signs the statement' },
    { flags: '--source-map', about: 'of file, package and function: write a source map too' },
    { flags: '--check <artefact>', about: 'write nothing; compare a packed file, a wire log or a list with what the targets offer now' },
    json,
  ],
  takes: ['pack'],
  chooses: true,
  help: `Forms:
${forms.map(({ name, about }) => `  ${name.padEnd(12)}${about}`).join('\n')}

Examples:
  jexo pack hives.ts --as file --out dist/
  jexo pack api.openapi.yaml --only "GET *" --out dist/
  jexo pack apiary.jexo.yaml --as container --out deploy/
  jexo pack hives.ts ./handbook --as package --publish-as @alderwick/apiary --out package/
  jexo pack hives.ts --check dist/hives.mjs     what changes for callers; exit code 1 when it may break them

Packages, types and documents are built in; secrets are read where it runs, and refused when they stand in what is packed. What was packed
is started in an empty folder before it is written.`,
  run,
};

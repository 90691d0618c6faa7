import { statSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import { basename, resolve } from 'node:path';
import { text as readAll } from 'node:stream/consumers';
import { JexoError, messageOf } from '../../errors.js';
import { nearest } from '../../offers/nearest.js';
import { asPlan } from '../../projects/as-plan.js';
import { guessEndpoints } from '../../projects/guess-endpoints.js';
import { parseCurl } from '../../projects/parse-curl.js';
import {
  demoProject,
  endpointsProject,
  functionsProject,
  viewProject,
  type ProjectFiles,
  type ProjectInfo,
} from '../../projects/project-files.js';
import { readHar } from '../../projects/read-har.js';
import { dialectOfUrl, sqliteEnding } from '../../sources/database/place.js';
import { writeProject } from '../../projects/write-project.js';
import { databaseKind } from '../../targets/kinds/database.js';
import { documentKind } from '../../targets/kinds/document.js';
import { folderKind } from '../../targets/kinds/folder.js';
import { graphqlKind } from '../../targets/kinds/graphql.js';
import type { CliCommand, Invocation } from '../command.js';
import { json } from '../options.js';
import { askChoice, askText, closeTerminal, isSomebodyThere } from '../ask.js';
import { note, onErr, printJson, symbols } from '../terminal.js';
import { counted } from '../../protocol/counted.js';

interface NewOptions {
  readonly from?: readonly string[];
  readonly name?: string;
  readonly as?: 'code' | 'plan';
  readonly json?: boolean;
}

const kinds = {
  functions: 'plain functions',
  document: 'an OpenAPI document: a file or a URL',
  database: 'a database: a file of SQLite or a URL',
  curl: 'a curl command line',
  har: 'a HAR recording of a browser',
  graphql: 'a GraphQL schema or service',
  folder: 'a folder of documents',
  view: 'a tool with a page that hosts show beside its answers',
  demo: 'the demo, to be taken apart',
} as const;
type Kind = keyof typeof kinds;

const examples = { har: 'session.har', database: 'scales.sqlite', graphql: 'ledger.graphql', folder: './handbook' };
const isFolder = (place: string) => statSync(place, { throwIfNoEntry: false })?.isDirectory() ?? false;

/** Writes a new project; what is not said by options is asked at a terminal. */
async function makeNew({ operands: [folder], options }: Invocation<NewOptions>): Promise<void> {
  if (folder === undefined) throw new JexoError('JEXO_USAGE', 'No folder was given for the project.', { next: 'As in: jexo new hives' });
  const [kind, source] = await choose(options.from ?? []).finally(closeTerminal);
  const info: ProjectInfo = { name: packageName(options.name ?? basename(resolve(folder))), version: process.env.JEXO_VERSION ?? '0.0.0' };
  const made = await filesOf(kind, source, info);
  const files = options.as === 'plan' ? asPlan(kind, made, info.name) : made;
  const written = await writeProject(folder, files);
  if (options.json) return printJson(JSON.stringify({ folder: resolve(folder), name: info.name, from: kind, files: written }, null, 2));
  note(
    `${onErr('moss', symbols.ok)} ${onErr('bold', info.name)} is in ${folder}, made from ${kinds[kind]}: ${counted(written.length, 'file')}`,
  );
  const secret =
    '.env' in files
      ? files['.env']!.split('\n')
          .filter((line) => /=./.test(line))
          .map((line) => line.replace(/=.*/s, ''))
      : [];
  if (secret.length > 0) note(`  ${secret.join(', ')} ${secret.length === 1 ? 'is' : 'are'} in .env, which is not committed.`);
  note(`  Next: cd ${folder} && npm install && npm start`);
}

async function choose(from: readonly string[]): Promise<[Kind, string | undefined]> {
  const [given, ...rest] = from;
  if (given === undefined) {
    if (!isSomebodyThere()) return ['functions', undefined];
    const kind = await askChoice('What is it made from?', kinds);
    return [
      kind,
      kind === 'functions' || kind === 'demo' || kind === 'view'
        ? undefined
        : await askText(kind === 'curl' ? 'The curl line' : 'Where is it?'),
    ];
  }
  const source = rest.length > 0 ? rest.join(' ') : undefined;
  if (/\.(?:ya?ml|json)$/i.test(given) && source === undefined) return ['document', given];
  if (source === undefined && (sqliteEnding.test(given) || dialectOfUrl(given) !== undefined)) return ['database', given];
  if (/\.har$/i.test(given) && source === undefined) return ['har', given];
  if (source === undefined && (/\.(?:graphqls?|gql)$/i.test(given) || /^https?:.*\/graphql\/?$/i.test(given))) return ['graphql', given];
  if (source === undefined && /[\\/]/.test(given) && isFolder(given)) return ['folder', given];
  if (!(given in kinds)) {
    const near = nearest(given, Object.keys(kinds));
    throw new JexoError('JEXO_USAGE', `There is no template ${given}.${near === undefined ? '' : ` Did you mean ${near}?`}`, {
      where: '--from',
      next: `There are: ${Object.keys(kinds).join(', ')}.`,
    });
  }
  if (given !== 'functions' && given !== 'demo' && given !== 'view' && source === undefined)
    throw new JexoError('JEXO_USAGE', `--from ${given} wants to know which.`, {
      where: '--from',
      next:
        given === 'curl'
          ? "As in: --from curl 'curl https://hives.example/hives'"
          : `As in: --from ${given} ${examples[given as keyof typeof examples] ?? 'api.openapi.yaml'}`,
    });
  return [given as Kind, source];
}

async function filesOf(kind: Kind, source: string | undefined, info: ProjectInfo): Promise<ProjectFiles> {
  switch (kind) {
    case 'database':
      return databaseKind.project!(source!, info);
    case 'graphql':
      return graphqlKind.project!(source!, info);
    case 'folder':
      return folderKind.project!(source!, info);
    case 'functions':
      return functionsProject(info);
    case 'view':
      return viewProject(info);
    case 'demo':
      return demoProject(info);
    case 'document':
      return documentKind.project!(source!, info);
    case 'curl':
      return endpointsProject(info, guessEndpoints([parseCurl(source === '-' ? await readAll(process.stdin) : source!)]));
    case 'har':
      return endpointsProject(info, guessEndpoints(readHar(await read(source!), source!)));
  }
}

async function read(file: string): Promise<string> {
  try {
    return await readFile(file, 'utf8');
  } catch (error) {
    throw new JexoError('JEXO_TARGET_MISSING', `${file} cannot be read: ${messageOf(error)}`, { where: file, cause: error });
  }
}

function packageName(text: string): string {
  return (
    text
      .toLowerCase()
      .replaceAll(/[^a-z0-9._-]+/g, '-')
      .replaceAll(/^[-._]+|[-._]+$/g, '') || 'server'
  );
}

export const command: CliCommand<NewOptions> = {
  name: 'new',
  about: 'create a project: a server, a test, a call sheet and a README',
  operands: ['[folder]'],
  options: [
    {
      flags: '--from <kind and source...>',
      about:
        'functions, demo, a document, database <place>, graphql <place>, folder <path>, curl <line> or har <file>; asked for at a terminal',
    },
    { flags: '--name <name>', about: 'the project’s name (default: the folder’s)' },
    { flags: '--as <what>', about: 'a module, or a plan file without code', choices: ['code', 'plan'], default: 'code' },
    json,
  ],
  help: `Examples:
  jexo new hives                                             from plain functions
  jexo new registry --from registry.openapi.yaml             from an OpenAPI document, or its URL
  jexo new scales --from scales.sqlite                       from a database
  jexo new ledger --from https://ledger.example/graphql      from a GraphQL service, with a first set of operations
  jexo new handbook --from ./handbook                        from a folder of documents
  jexo new registry --from curl 'curl https://… -H …'        from a request that works; secrets go into .env
  jexo new registry --from har session.har                   from a browser’s recording

Nothing is overwritten: the folder must be empty or new.`,
  run: makeNew,
};

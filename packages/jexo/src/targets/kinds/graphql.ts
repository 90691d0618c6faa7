import { existsSync, readdirSync } from 'node:fs';
import { basename, resolve } from 'node:path';
import { defineServer } from '../../offers/define-server.js';
import type { ProjectFiles, ProjectInfo } from '../../projects/project-files.js';
import { bearer } from '../../sources/http/auth.js';
import { env } from '../../sources/setting.js';
import type { WrapGraphqlOptions } from '../../sources/graphql/wrap-graphql.js';
import { entryOfFile } from '../entry-of-file.js';
import { serverName } from '../server-name.js';
import type { OpenHow, TargetKind } from '../target-kind.js';

const endings = /\.(?:graphqls?|gql|introspection\.json)$/i;
const isEndpointUrl = (text: string) => /^https?:\/\//i.test(text) && URL.canParse(text) && /\/graphql\/?$/i.test(new URL(text).pathname);

/** A GraphQL schema with operations, or the address of a service: each operation is a tool. */
export const graphqlKind: TargetKind = {
  kind: 'graphql',
  noun: 'a GraphQL service',
  example: 'ledger.graphql operations/',
  about: 'a GraphQL schema, or the address of a service (https://…/graphql): named operations as tools',
  options: [
    {
      name: 'operations',
      flags: '--operations <folder>',
      about: 'named operations: a folder or file of .graphql, each a tool',
      read: (text) => resolve(text),
    },
    { name: 'endpoint', flags: '--endpoint <url>', about: 'the address of the service' },
    { name: 'bearer', flags: '--bearer <variable>', about: 'the variable of the environment with the token for the service' },
    { name: 'explore', flags: '--explore', about: 'let a model find types and fields, and run queries of its own' },
    { name: 'allowMutations', flags: '--allow-mutations', about: 'with --explore: let it run mutations too' },
    { name: 'subscriptions', flags: '--subscriptions <url>', about: 'where subscriptions go: wss://… or https://…' },
  ],
  choosesItself: true,
  matches: (text) => (endings.test(text) && (URL.canParse(text) || !/[\n{]/.test(text))) || isEndpointUrl(text),
  takesNext: (_place, next) =>
    isFolderOfOperations(next) || (/\.(?:graphql|gql)$/i.test(next) && existsSync(next)) ? { operations: resolve(next) } : undefined,
  async open(place, how) {
    const { wrapGraphql } = await import('../../sources/graphql/wrap-graphql.js');
    const name = nameOf(place);
    const source = wrapGraphql(isUrl(place) ? place : resolve(place), { ...wrapOptions(how), name });
    return {
      server: defineServer({ name: serverName(name), title: `GraphQL service ${name}`, version: '0.0.0', offers: [source] }),
      files: isUrl(place) ? [] : [resolve(place)],
    };
  },
  async pack(place, how) {
    const name = nameOf(place);
    const { auth: _auth, operations, ...options } = wrapOptions(how);
    const { bearer: variable } = how.options as { bearer?: string };
    // The texts are frozen into the pack; where they lay on this machine is nobody's business.
    const given = [
      JSON.stringify({ name, ...options, ...(operations !== undefined && { operations: {} }) }),
      ...(variable === undefined ? [] : [`{ auth: bearer(env(${JSON.stringify(variable)})) }`]),
      ...(options.endpoint === undefined && !isUrl(place) ? [`{ endpoint: env(${JSON.stringify(endpointVariable(name))}) }`] : []),
    ];
    const place_ = isUrl(place) ? place : `./${basename(place)}`;
    return {
      imports: '',
      server: `defineServer({ ...${JSON.stringify({ name: serverName(name), title: `GraphQL service ${name}`, version: '0.0.0' })}, offers: [wrapGraphql(${JSON.stringify(place_)}, Object.assign({}, ${given.join(', ')}))] })`,
      from: isUrl(place) ? resolve('package.json') : resolve(place),
      name,
      packages: ['graphql'],
      ...(options.endpoint === undefined &&
        !isUrl(place) && { settings: [{ variable: endpointVariable(name), purpose: `the address of ${name}`, secret: false }] }),
    };
  },
  hostEntry: async (place, how) => entryOfFile(place, how),
  name: nameOf,
  project: projectOf,
};

const endpointVariable = (name: string) => `${name.toUpperCase().replaceAll(/\W+/g, '_')}_URL`;
const isUrl = (place: string) => /^https?:/i.test(place);

function isFolderOfOperations(place: string): boolean {
  try {
    const names = readdirSync(place).filter((name) => !name.startsWith('.'));
    return names.length > 0 && names.every((name) => endings.test(name));
  } catch {
    return false; // no folder
  }
}

function nameOf(place: string): string {
  if (isEndpointUrl(place)) {
    const host = new URL(place).hostname.replace(/^(?:www|api)\./, '');
    return /^[\d.]+$|^localhost$|^\[/.test(host) ? 'graphql' : host.split('.')[0]!;
  }
  return place.replace(/^.*[\\/]/, '').replace(endings, '');
}

function wrapOptions({ options, choice }: OpenHow): WrapGraphqlOptions {
  const {
    operations,
    endpoint,
    bearer: variable,
    explore,
    allowMutations,
    subscriptions,
  } = options as {
    operations?: string;
    endpoint?: string;
    bearer?: string;
    explore?: boolean;
    allowMutations?: boolean;
    subscriptions?: string;
  };
  return {
    ...choice,
    ...(operations !== undefined && { operations }),
    ...(endpoint !== undefined && { endpoint }),
    ...(variable !== undefined && { auth: bearer(env(variable)) }),
    ...((explore || allowMutations) && { explore: { mutations: allowMutations ?? false } }),
    ...(subscriptions !== undefined && { subscriptions }),
  };
}

async function projectOf(place: string, info: ProjectInfo): Promise<ProjectFiles> {
  const [{ starterFrom }, { graphqlProject }] = await Promise.all([
    import('../../sources/graphql/wrap-graphql.js'),
    import('../../projects/project-files.js'),
  ]);
  const { schema, operations } = await starterFrom(place);
  return graphqlProject(info, { schema, operations, endpoint: isEndpointUrl(place) ? place : '' });
}

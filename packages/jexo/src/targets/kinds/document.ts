import { readFile } from 'node:fs/promises';
import { basename, extname, resolve } from 'node:path';
import { pathToFileURL } from 'node:url';
import { JexoError } from '../../errors.js';
import { defineServer } from '../../offers/define-server.js';
import type { ProjectFiles, ProjectInfo } from '../../projects/project-files.js';
import type { Api } from '../../sources/rest/operation.js';
import type { RestDocument } from '../../sources/rest/read-document.js';
import type { WrapRestOptions } from '../../sources/rest/wrap-rest.js';
import { entryOfFile } from '../entry-of-file.js';
import { readPair } from '../read-pair.js';
import { serverName } from '../server-name.js';
import type { OpenHow, TargetKind } from '../target-kind.js';

const endings = /\.(?:ya?ml|json)$/i;
/** Files of our own that are no servers. */
const sheets = /\.(?:calls|requests|jexo)\.(?:ya?ml|json)$/i;
/** What every OpenAPI document says of itself. */
const saysOpenApi = /(?:^|[\s{,])["']?(?:openapi|swagger)["']?\s*:\s*["']?\d/m;

/** True for an address that ends like a document's. */
export function isDocumentUrl(text: string): boolean {
  return /^https?:\/\//i.test(text) && URL.canParse(text) && endings.test(new URL(text).pathname);
}

/** An OpenAPI document, by path or URL: its operations as tools. */
export const documentKind: TargetKind = {
  kind: 'document',
  noun: 'an OpenAPI document',
  example: 'api.openapi.yaml',
  about: 'an OpenAPI document, or its URL: its operations as tools',
  choosesItself: true,
  options: [
    { name: 'baseUrl', flags: '--base-url <url>', about: 'the API’s address' },
    { name: 'searchTools', flags: '--search-tools', about: 'offer three tools that find, show and call operations' },
    {
      name: 'bodyType',
      flags: '--body-type <operation=type>',
      about: 'the content type of a body that accepts several; may be repeated',
      read: readPair('--body-type', 'operation=type'),
    },
    {
      name: 'secret',
      flags: '--secret <scheme=NAME>',
      about: 'the variable with the secret of a security scheme; may be repeated',
      read: readPair('--secret', 'scheme=NAME'),
    },
    { name: 'resources', flags: '--resources', about: 'also offer GET operations as resources' },
    { name: 'jmespath', flags: '--jmespath', about: 'let callers select fields of an answer with a JMESPath expression' },
  ],
  matches(text, peek) {
    if (isDocumentUrl(text)) return true;
    if (sheets.test(text) || /^[a-z]+:\/\//i.test(text)) return false;
    // A document that lacks its mark, or is not there, is reported by whoever reads it.
    return endings.test(text) || (peek.what === 'file' && saysOpenApi.test(peek.text));
  },
  async open(place, how) {
    const [{ readDocument }, { restSource }] = await Promise.all([
      import('../../sources/rest/read-document.js'),
      import('../../sources/rest/wrap-rest.js'),
    ]);
    // Its title is wanted first: the same reading serves the source when it is read for the first time.
    let first: RestDocument | undefined = await readDocument(place);
    const info = infoOf(first, place);
    const source = restSource(
      async (options) => {
        const found = options.frozen === undefined && options.onText === undefined ? first : undefined;
        first = undefined;
        return found ?? readDocument(place, options);
      },
      basename(place),
      wrapOptions(how),
      isFile(place),
    );
    return { server: defineServer({ ...info, offers: [source] }), files: isFile(place) ? [resolve(place)] : [] };
  },
  async pack(place, how) {
    if (!isFile(place))
      throw new JexoError('JEXO_PACK', `${place} is not on this disk, so a pack cannot carry it.`, {
        where: place,
        next: 'Download the document, look at it, and pack the copy.',
      });
    const { readDocument } = await import('../../sources/rest/read-document.js');
    const info = infoOf(await readDocument(place), place);
    // The name is read as part of an address, where some characters stand for others.
    const name = JSON.stringify(`./${basename(pathToFileURL(resolve(place)).pathname)}`);
    const wrapped = `wrapRest(new URL(${name}, import.meta.url), ${JSON.stringify(wrapOptions(how))})`;
    return {
      imports: '',
      server: `defineServer({ ...${JSON.stringify(info)}, offers: [${wrapped}] })`,
      from: resolve(place),
      name: basename(place, extname(place)),
    };
  },
  hostEntry: entryOfFile,
  name: (place) => place.replace(/^.*[\\/]/, '').replace(/(?:\.openapi)?\.\w+$/, ''),
  project: projectOf,
};

const isFile = (place: string) => !/^https?:/i.test(place);

function infoOf({ root }: RestDocument, place: string): { readonly name: string; readonly title?: string; readonly version: string } {
  const { title, version = '0.0.0' } = (root as { info?: { title?: string; version?: string } }).info ?? {};
  return {
    name: serverName((title ?? basename(place).replace(/\..*$/, '')).toLowerCase()),
    ...(title !== undefined && { title }),
    version,
  };
}

function wrapOptions({ options, choice }: OpenHow): WrapRestOptions {
  const { baseUrl, searchTools, bodyType, secret, resources, jmespath } = options as {
    baseUrl?: string;
    searchTools?: boolean;
    bodyType?: Record<string, string>;
    secret?: Record<string, string>;
    resources?: boolean;
    jmespath?: boolean;
  };
  return {
    ...choice,
    ...(baseUrl !== undefined && { baseUrl }),
    ...(searchTools && { as: 'search' }),
    ...(bodyType && { bodyTypes: bodyType }),
    ...(secret && { secrets: secret }),
    ...(resources && { resources }),
    ...(jmespath && { jmespath }),
  };
}

async function projectOf(place: string, info: ProjectInfo): Promise<ProjectFiles> {
  const [{ readDocument }, { readApi }, { variablesOf }, { documentProject }] = await Promise.all([
    import('../../sources/rest/read-document.js'),
    import('../../sources/rest/read-api.js'),
    import('../../sources/http/auth.js'),
    import('../../projects/project-files.js'),
  ]);
  const document = await readDocument(place);
  const api = readApi(document);
  const [server] = api.servers;
  const base = server?.url.replaceAll(/\{([^}]+)\}/g, (whole, name: string) => server.variables[name]?.default ?? whole);
  return documentProject(info, {
    file: isFile(place) ? basename(place) : 'api.openapi.json',
    text: isFile(place) ? await readFile(place, 'utf8') : `${JSON.stringify(document.root, null, 2)}\n`,
    ...(isFile(place) ? { variables: variablesOf(api) } : await ownVariables(api)),
    ...(base !== undefined && /^https?:/.test(base) && { base }),
  });
}

/** What lies on this disk from now on came from elsewhere: the variables it would name are given a name of ours in front. */
async function ownVariables(api: Api): Promise<{ variables: readonly string[]; secrets: Readonly<Record<string, string>> }> {
  const { variableNamed, variablesOf } = await import('../../sources/http/auth.js');
  const secrets = Object.fromEntries(Object.keys(api.schemes).map((scheme) => [scheme, `API_${variableNamed(scheme)}`]));
  const variables = variablesOf(api, secrets);
  const used = Object.entries(secrets).filter(([, variable]) => variables.some((each) => each.startsWith(variable)));
  return { variables, secrets: Object.fromEntries(used) };
}

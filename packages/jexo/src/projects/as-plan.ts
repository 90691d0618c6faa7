import { stringify } from 'yaml';
import { JexoError } from '../errors.js';
import type { ProjectFiles } from './project-files.js';

/** What a plan of each template is made of, from the files of the project. */
const entries: Readonly<Record<string, (files: ProjectFiles) => Record<string, unknown>>> = {
  functions: () => ({ functions: './functions.ts' }),
  document: (files) => {
    const document = Object.keys(files).find(
      (file) => /\.(?:ya?ml|json)$/.test(file) && !/^(?:package|tsconfig)\.json$|\.calls\.yaml$/.test(file),
    )!;
    return { rest: `./${document}`, baseUrl: '${API_URL}' };
  },
  database: () => ({ database: '${DATABASE}', queries: './queries' }),
  graphql: () => ({ graphql: './schema.graphql', operations: './operations', endpoint: '${GRAPHQL_URL}' }),
  folder: () => ({ folder: '${DOCUMENTS}', search: true }),
};

/**
 * The same project with a plan file in place of the module.
 *
 * @param kind the template
 * @throws JexoError JEXO_USAGE for a template that is code
 */
export function asPlan(kind: string, files: ProjectFiles, name: string): ProjectFiles {
  const entryOf = entries[kind];
  if (entryOf === undefined)
    throw new JexoError('JEXO_USAGE', `A project from ${kind} is code, and cannot be a plan file.`, {
      where: '--as',
      next: `A plan can be made from: ${Object.keys(entries).join(', ')}.`,
    });
  const plan = {
    name: name.replaceAll(/\W+/g, '_'),
    version: '0.1.0',
    instructions: 'Say here what this server is for, and when to use it.',
    offers: [entryOf(files)],
  };
  const { 'server.ts': _, ...rest } = files;
  const renamed = Object.fromEntries(
    Object.entries(rest).map(([file, text]) => [
      file,
      /^(?:package\.json|README\.md|server\.calls\.yaml|test\/.*)$/.test(file) ? text.replaceAll('server.ts', 'server.jexo.yaml') : text,
    ]),
  );
  // A plan is served as it is; packing one is not offered yet.
  const manifest = JSON.parse(renamed['package.json']!) as { scripts: Record<string, string> };
  delete manifest.scripts.pack;
  return {
    ...renamed,
    'package.json': `${JSON.stringify(manifest, null, 2)}\n`,
    'server.jexo.yaml': `# yaml-language-server: $schema=./node_modules/jexo/dist/plan.schema.json\n${stringify(plan)}`,
  };
}

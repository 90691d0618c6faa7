import { isRecord } from '../../protocol/is-record.js';
import { propertiesOf, requiredOf } from '../../protocol/json-schema.js';
import type { JsonSchema } from '../../protocol/types.js';
import { licenceText, type Bundle } from '../bundle.js';
import { typeOfSchema } from '../type-of-schema.js';
import { aboutOf, copiesBelow, dependenciesOf, needs, slugOf, versionOf } from './names.js';
import type { PackForm } from './form.js';

/** A package for npm, with a command, types, and a README that lists its tools. */
export const packageForm: PackForm = {
  name: 'package',
  about: 'a package for npm, with a command, types and a README',
  entry: 'import',
  make(bundle, { publishAs }) {
    const { code, map, beside } = bundle;
    const name = publishAs ?? slugOf(bundle);
    const command = name.replace(/^@[^/]+\//, '');
    const stated = {
      name,
      version: versionOf(bundle),
      description: aboutOf(bundle),
      type: 'module',
      engines: { node: '>=20' },
      bin: { [command]: './server.mjs' },
      exports: { '.': { types: './index.d.ts', default: './index.mjs' } },
      files: [
        'index.mjs',
        'index.d.ts',
        'server.mjs',
        'LICENCES.md',
        ...(map === undefined ? [] : ['index.mjs.map']),
        ...beside.map(({ as }) => as),
      ],
      license: 'UNLICENSED',
      dependencies: dependenciesOf(bundle),
    };
    return {
      files: {
        'package.json': { text: `${JSON.stringify(stated, null, 2)}\n` },
        'index.mjs': { text: map === undefined ? code : `${code}//# sourceMappingURL=index.mjs.map\n` },
        ...(map !== undefined && { 'index.mjs.map': { text: map } }),
        'index.d.ts': { text: typesOf(bundle) },
        'server.mjs': { text: "#!/usr/bin/env node\nimport { run } from './index.mjs';\n\nawait run();\n", isRun: true },
        'README.md': { text: readmeOf(bundle, name, command) },
        'LICENCES.md': { text: `${licenceText(bundle.builtIn)}\n` },
      },
      copies: copiesBelow(bundle),
      start: 'server.mjs',
      next: [
        ...needs(bundle),
        'Look at license and version in package.json, then: npm publish   (or npm pack, for a tarball)',
        `Whoever has it starts it with: npx ${name}`,
      ],
    };
  },
};

function typesOf({ catalogue }: Bundle): string {
  const tools = [...catalogue.tools.values()].map(({ offer }) => {
    const output = offer.output === undefined ? 'unknown' : typeOfSchema(offer.output.json, '    ');
    return `  ${JSON.stringify(offer.name)}: {\n    input: ${typeOfSchema(offer.input.json, '    ')};\n    output: ${output};\n  };`;
  });
  return `/** What each tool takes and answers with. */
export interface Tools {
${tools.join('\n')}
}

/** The server as a value: \`connect(server)\` of jexo calls it in memory. */
export declare const server: { readonly info: { readonly name: string; readonly version: string } };

/** Serves it, as the command does: over stdio, or over HTTP with \`--http\` among the words of the command line. */
export declare const run: () => Promise<void>;
`;
}

function readmeOf(bundle: Bundle, name: string, command: string): string {
  const { info, catalogue, settings } = bundle;
  const tools = [...catalogue.tools.values()].map(({ offer }) => {
    const { description = '' } = offer;
    const inputs = inputsOf(offer.input.json);
    return `### ${offer.name}\n\n${description}${inputs === '' ? '' : `\n\n${inputs}`}`;
  });
  const variables = settings.map(({ variable, purpose, secret }) => `| \`${variable}\` | ${purpose} | ${secret ? 'yes' : 'no'} |`);
  return `# ${info.title ?? info.name}

${aboutOf(bundle)}

A Model Context Protocol server. Needs Node 20.

\`\`\`sh
npx ${name}                   # over stdio, for a host application that starts it
npx ${name} --http 4300       # over HTTP, at http://127.0.0.1:4300/mcp
npx ${name} --help
\`\`\`

In a host application's configuration: command \`npx\`, arguments \`["-y", "${name}"]\`. Installed, the command is \`${command}\`.
${variables.length === 0 ? '' : `\n## Variables\n\n| variable | for | secret |\n| --- | --- | --- |\n${variables.join('\n')}\n`}
## Tools

${tools.join('\n\n')}
`;
}

function inputsOf(schema: JsonSchema): string {
  const required = new Set(requiredOf(schema));
  const rows = Object.entries(propertiesOf(schema)).map(([name, each]) => {
    const type = typeOfSchema(each, '').replaceAll(/\s+/g, ' ').replaceAll('|', '\\|');
    const about =
      isRecord(each) && typeof each.description === 'string' ? each.description.replaceAll(/\s+/g, ' ').replaceAll('|', '\\|') : '';
    return `| \`${name}\`${required.has(name) ? '' : ' (optional)'} | \`${type}\` | ${about} |`;
  });
  return rows.length === 0 ? '' : `| input | type | |\n| --- | --- | --- |\n${rows.join('\n')}`;
}

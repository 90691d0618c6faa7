import { stringify } from 'yaml';
import { endpointsDocument, type Endpoint } from '../sources/rest/wrap-endpoints.js';
import type { Guessed } from './guess-endpoints.js';

/** Files by their path within the project. */
export type ProjectFiles = Readonly<Record<string, string>>;

/** What a new project is called. */
export interface ProjectInfo {
  /** As in package.json: lower case, with dashes. */
  readonly name: string;
  /** The version of this library. */
  readonly version: string;
}

interface Parts {
  /** What the README says it is made of. */
  readonly about: string;
  readonly files: ProjectFiles;
  /** A call that works, as a person types it behind `jexo call server.ts`; none when no answer is known beforehand. */
  readonly call?: string;
  /** Lines of the test behind the one that lists. */
  readonly test?: string;
  readonly sheet?: string;
  /** Variables that are read, with what they hold if that is known. */
  readonly env?: Readonly<Record<string, string>>;
  readonly dependencies?: Readonly<Record<string, string>>;
}

const serverName = (name: string) => name.replaceAll(/\W+/g, '_');
const quoted = (text: string) => `'${text.replaceAll('\\', '\\\\').replaceAll("'", "\\'")}'`;

function project({ name, version }: ProjectInfo, { about, files, call, test, sheet, env = {}, dependencies = {} }: Parts): ProjectFiles {
  const variables = Object.keys(env);
  const run = variables.length > 0 ? 'node --env-file=.env node_modules/jexo/dist/cli.mjs' : 'jexo';
  const manifest = {
    name,
    version: '0.1.0',
    private: true,
    type: 'module',
    bin: { [name]: 'dist/server.mjs' },
    engines: { node: '>=20.6' },
    scripts: {
      start: `${run} inspect server.ts`,
      test: `${sheet === undefined ? '' : `${run} replay server.calls.yaml && `}node ${variables.length > 0 ? '--env-file=.env ' : ''}--test test/*.test.mjs`,
      check: `${run} check server.ts`,
      serve: `${run} serve server.ts`,
      pack: 'jexo pack server.ts --as file --out dist --replace',
    },
    dependencies: { jexo: `^${version}`, ...dependencies },
  };
  return {
    'package.json': `${JSON.stringify(manifest, null, 2)}\n`,
    'tsconfig.json': `${JSON.stringify({ compilerOptions: { target: 'ES2022', module: 'NodeNext', strict: true, noEmit: true, skipLibCheck: true }, include: ['*.ts'] }, null, 2)}\n`,
    '.gitignore': 'node_modules/\ndist/\n.env\n',
    '.env.example':
      variables.length === 0
        ? '# Nothing is read from the environment yet.\n'
        : `# Copy this to .env, which is not committed, and fill it in.\n${variables.map((each) => `${each}=`).join('\n')}\n`,
    ...(variables.length > 0 && { '.env': `${variables.map((each) => `${each}=${envValue(env[each]!)}`).join('\n')}\n` }),
    'test/server.test.mjs': `import assert from 'node:assert/strict';
import { test } from 'node:test';
import { connect } from 'jexo/testing';

test('every tool is offered, with a description', async () => {
  const client = await connect('server.ts');
  const tools = await client.tools();
  assert.notEqual(tools.length, 0);
  for (const { name, description } of tools) assert.ok(description, \`\${name} has no description\`);
  await client.close();
});
${test ?? ''}`,
    ...(sheet !== undefined && {
      'server.calls.yaml': `# yaml-language-server: $schema=./node_modules/jexo/dist/calls.schema.json\n${sheet}`,
    }),
    'README.md': `# ${name}

${about}

\`\`\`sh
npm install && npm start    # the bench in the browser: see what is offered, call it, follow every message
npm test                    # ${sheet === undefined ? 'the tests' : 'the call sheet, and the tests'}
\`\`\`
${variables.length > 0 ? `\nIt reads ${variables.join(', ')} from \`.env\`, which is not committed.\n` : ''}
\`npm run check\` says what a model would stumble over, \`npm run serve\` serves over stdio (add \`-- --http 4300\` for HTTP), \`npm run pack\`
writes one file that needs nothing but Node.
${call === undefined ? '' : `\n\`\`\`sh\nnpx jexo call server.ts ${call}\n\`\`\`\n`}`,
    ...files,
  };
}

/** A value as an environment file wants it: in quotes where it would be cut otherwise. */
function envValue(value: string): string {
  if (/^[^\s#'"`]*$/.test(value)) return value;
  const quote = ["'", '"', '`'].find((each) => !value.includes(each)) ?? '"';
  return quote + value + quote;
}

/** From plain functions: a first one to be replaced. */
export function functionsProject(info: ProjectInfo): ProjectFiles {
  return project(info, {
    about: 'Functions as tools: every function that `functions.ts` exports is one. Its comment and its types are what a model reads.',
    call: 'mix_syrup colonies=12 season=autumn',
    files: {
      'functions.ts': `/** How much sugar and water to mix for one feeding of bees.
 *  Use when someone asks what to feed, how much, or how thick the syrup should be.
 *  @param colonies how many colonies are fed  @minimum 1
 *  @param season spring syrup is thin (1:1), autumn syrup is thick (2:1)
 *  @readOnly
 *  @openWorld false */
export function mixSyrup(colonies: number, season: 'spring' | 'autumn' = 'spring'): { sugarKg: number; waterL: number } {
  const sugarKg = season === 'spring' ? colonies : colonies * 2;
  return { sugarKg, waterL: season === 'spring' ? sugarKg : sugarKg / 2 };
}
`,
      'server.ts': `import { defineServer, wrapFunctions } from 'jexo';
import * as functions from './functions.js';

export default defineServer({
  name: ${quoted(serverName(info.name))},
  version: '0.1.0',
  instructions: 'Say here what this server is for, and when to use it.',
  offers: [wrapFunctions(functions, { types: new URL('./functions.ts', import.meta.url) })],
});
`,
    },
    sheet: `# Calls and what they must answer. More are added by: npx jexo call server.ts … --keep server.calls.yaml
target: ./server.ts
calls:
  - name: autumn syrup is thick
    call: mix_syrup
    with: { colonies: 12, season: autumn }
    must: { be: { sugarKg: 24, waterL: 12 } }
  - name: nobody feeds no colony
    call: mix_syrup
    with: { colonies: 0 }
    must: { fail: colonies }
`,
    test: `
test('spring syrup is thin', async () => {
  const client = await connect('server.ts');
  const { structuredContent } = await client.call('mix_syrup', { colonies: 3 });
  assert.deepEqual(structuredContent, { sugarKg: 3, waterL: 3 });
  await client.close();
});
`,
  });
}

/** The demo: functions, a tool that asks, a resource template and a prompt, to be taken apart. */
export function demoProject(info: ProjectInfo): ProjectFiles {
  const { 'functions.ts': functions } = functionsProject(info);
  return project(info, {
    about: 'A small apiary, to be taken apart: functions as tools, a tool that asks before it moves a hive, a resource template, a prompt.',
    call: 'move_hive hive=MR-03',
    dependencies: { zod: '^4.0.0' },
    files: {
      'functions.ts': functions!,
      'server.ts': `import { defineServer, prompt, template, tool, wrapFunctions } from 'jexo';
import { z } from 'zod';
import * as functions from './functions.js';

const places = { MR: 'Millrace', UC: 'Upper Croft', SM: 'Saltmarsh' };
const hives = new Map([
  ['MR-03', { at: 'MR', strength: 7, queen: 2024 }],
  ['UC-01', { at: 'UC', strength: 4, queen: 2026 }],
]);
const hiveId = z.string().regex(/^[A-Z]{2}-\\d{2}$/).describe('a hive, as MR-03');

export default defineServer({
  name: ${quoted(serverName(info.name))},
  version: '0.1.0',
  instructions: 'Feeding and records of a small apiary. Hives are named like MR-03.',
  offers: [
    wrapFunctions(functions, { types: new URL('./functions.ts', import.meta.url) }),
    tool(
      'move_hive',
      {
        description: 'Moves a hive to another apiary. Use when someone wants a colony brought elsewhere; it asks where to, and to be sure.',
        input: z.object({ hive: hiveId, to: z.enum(['MR', 'UC', 'SM']).describe('the apiary it goes to') }),
        output: z.object({ hive: z.string(), now: z.string() }),
        annotations: { destructiveHint: true },
        ask: { to: 'Which apiary should it go to?' },
        confirm: 'Move {hive} to {to}?',
      },
      ({ hive, to }) => {
        const found = hives.get(hive);
        if (found === undefined) throw new Error(\`Hive \${hive} is not known. There are: \${[...hives.keys()].join(', ')}.\`);
        found.at = to;
        return { hive, now: places[to] };
      },
    ),
    template(
      'hive://{hive}',
      { name: 'hive', description: 'Where a hive stands, how strong it is and how old its queen. Read it before you move or open the hive.', mimeType: 'application/json', complete: { hive: [...hives.keys()] } },
      ({ hive }) => hives.get(hive),
    ),
    prompt('inspection', { description: 'Begins a talk about one hive.', input: z.object({ hive: hiveId }) }, ({ hive }) => \`What should I look for when I open \${hive}?\`),
  ],
});
`,
    },
    sheet: `# Calls and what they must answer. More are added by: npx jexo call server.ts … --keep server.calls.yaml
target: ./server.ts
calls:
  - name: a move asks where to, and to be sure
    call: move_hive
    with: { hive: MR-03 }
    replies:
      - { to: Which apiary, with: { to: SM } }
      - { to: Move MR-03 to SM, with: {} }
    must: { be: { hive: MR-03, now: Saltmarsh } }
  - name: it stands there now
    read: hive://MR-03
    after: a move asks where to, and to be sure
    must: { have: { at: SM } }
`,
  });
}

/** One tool and the page that hosts show with its answers. */
// eslint-disable-next-line max-lines-per-function -- the files stand here as they are written
export function viewProject(info: ProjectInfo): ProjectFiles {
  return project(info, {
    about:
      'A tool with a view: the page in `view/` is shown beside its answers. Edit it while the bench is open, and it is shown again with the same answer. `Book it` calls a tool that only the page may call.',
    call: 'hive_season hive=MR-03',
    dependencies: { vite: '^8.0.0', zod: '^4.0.0' },
    files: {
      'view/index.html': `<!doctype html>
<html lang="en">
  <head>
    <meta charset="utf-8" />
    <title>A hive</title>
    <link rel="stylesheet" href="./style.css" />
  </head>
  <body>
    <main>
      <h1 id="title">…</h1>
      <ol id="weights"></ol>
      <form id="book">
        <label>Next inspection <input type="date" name="date" required /></label>
        <button>Book it</button>
      </form>
      <p id="said" role="status"></p>
    </main>
    <script type="module" src="./main.ts"></script>
  </body>
</html>
`,
      'view/style.css': `:root {
  color-scheme: light dark;
  font: 15px/1.5 var(--font-sans, system-ui, sans-serif);
  color: var(--color-text-primary, light-dark(#172224, #e4ebea));
  background: var(--color-background-primary, light-dark(#ffffff, #1a2224));
}
main {
  padding: 16px;
}
h1 {
  font-size: 1.1em;
  margin: 0 0 8px;
}
ol {
  padding: 0;
  list-style: none;
}
`,
      'view/main.ts': `import { done, openView } from 'jexo/view';
import type { bookInspection, hiveSeason } from '../server.js';

// The types of the tools come from the server.
const view = await openView<typeof hiveSeason, { book_inspection: typeof bookInspection }>();
const find = (id: string) => document.getElementById(id)!;

view.onInput(({ hive }) => (find('title').textContent = hive));
view.onResult(({ structuredContent, isError, content }) => {
  if (isError || structuredContent === undefined) find('title').textContent = content[0]?.text ?? 'There is nothing to show.';
  else
    find('weights').replaceChildren(
      ...structuredContent.weights.map(({ month, kg }) => {
        const row = document.createElement('li');
        row.textContent = \`\${month}: \${kg} kg\`;
        return row;
      }),
    );
});

find('book').addEventListener('submit', async (event) => {
  event.preventDefault();
  const date = String(new FormData(event.target as HTMLFormElement).get('date'));
  const hive = view.result!.structuredContent!.hive;
  // Straight to the server: the model has no part in it.
  const { isError, content } = await view.call('book_inspection', { hive, date });
  find('said').textContent = isError ? (content[0]?.text ?? 'It failed.') : \`Booked for \${date}.\`;
  // News for the conversation, worded so that no model takes it for a request.
  if (!isError) await view.say(done(\`the next inspection of \${hive} is on \${date}.\`));
});
`,
      'tsconfig.json': `${JSON.stringify({ compilerOptions: { target: 'ES2022', module: 'ESNext', moduleResolution: 'Bundler', lib: ['ES2022', 'DOM'], strict: true, noEmit: true, skipLibCheck: true }, include: ['*.ts', 'view/*.ts'] }, null, 2)}\n`,
      'server.ts': `import { defineServer, tool, view } from 'jexo';
import { z } from 'zod';

const weights: Record<string, number[]> = { 'MR-03': [32.6, 32.1, 36.4, 43.2], 'SM-01': [29.5, 29.9, 33.8, 38.1] };
const months = ['March', 'April', 'May', 'June'];
const hive = z.enum(Object.keys(weights) as [string, ...string[]]).describe('a hive, as MR-03');

export const hiveSeason = tool(
  'hive_season',
  {
    title: 'A hive over the season',
    description: 'The weight of a hive, month by month. Use to see how a colony does.',
    input: z.object({ hive }),
    output: z.object({ hive: z.string(), weights: z.array(z.object({ month: z.string(), kg: z.number() })) }),
    annotations: { readOnlyHint: true },
    view: view('hive', { folder: new URL('./view/', import.meta.url), description: 'The months of a hive, and a form that books an inspection.' }),
  },
  ({ hive }) => ({ hive, weights: weights[hive]!.map((kg, index) => ({ month: months[index]!, kg })) }),
);

export const bookInspection = tool(
  'book_inspection',
  {
    description: 'Books an inspection. The person decides on it in the view.',
    input: z.object({ hive, date: z.iso.date().describe('the day') }),
    output: z.object({ hive: z.string(), date: z.string() }),
    visibleTo: 'view',
  },
  ({ hive, date }) => ({ hive, date }),
);

export default defineServer({
  name: ${quoted(serverName(info.name))},
  version: '0.1.0',
  instructions: 'Say here what this server is for, and when to use it.',
  offers: [hiveSeason, bookInspection],
});
`,
    },
    sheet: `# Calls and what they must answer. More are added by: npx jexo call server.ts … --keep server.calls.yaml
target: ./server.ts
calls:
  - name: a hive gains from March to June
    call: hive_season
    with: { hive: MR-03 }
    must: { have: { hive: MR-03 } }
`,
  });
}

/** From an OpenAPI document, which is copied into the project. */
export function documentProject(
  info: ProjectInfo,
  document: {
    readonly file: string;
    readonly text: string;
    readonly base?: string;
    /** Variables of its secrets. */
    readonly variables: readonly string[];
    /** Variables by security scheme, where they are not to be named by the document. */
    readonly secrets?: Readonly<Record<string, string>>;
  },
): ProjectFiles {
  const env = { API_URL: document.base ?? '', ...Object.fromEntries(document.variables.map((name) => [name, ''])) };
  return project(info, {
    about: `The operations of \`${document.file}\` as tools. Choose among them with \`only\` and \`except\` in \`server.ts\`.`,
    env,
    files: {
      [document.file]: document.text,
      'server.ts': `import { defineServer, env, wrapRest } from 'jexo';

export default defineServer({
  name: ${quoted(serverName(info.name))},
  version: '0.1.0',
  instructions: 'Say here what this API is for, and when to use it.',
  offers: [
    wrapRest(new URL('./${document.file}', import.meta.url), {
      baseUrl: env('API_URL'),
${
  document.secrets === undefined
    ? "      // Secrets are read from the environment, under the names of the document's security schemes: see .env"
    : `      secrets: ${literal(document.secrets, '      ')}, // variables by security scheme: see .env`
}
      // only: ['GET *'],
    }),
  ],
});
`,
    },
  });
}

/** From a database: named queries to be written, its rows, and a tool that reads. */
export function databaseProject(
  info: ProjectInfo,
  { address, driver }: { readonly address: string; readonly driver: Readonly<Record<string, string>> },
): ProjectFiles {
  return project(info, {
    about: 'Named queries in `queries/` as tools, tables as resources, and one tool that answers a SELECT statement. It only reads.',
    env: { DATABASE: address },
    dependencies: driver,
    files: {
      'queries/now.sql': `-- The time by the clock of the database. Replace this query with your own.
-- @title Time of the database
select current_timestamp as now
`,
      'server.ts': `import { defineServer, env, wrapDatabase } from 'jexo';

export default defineServer({
  name: ${quoted(serverName(info.name))},
  version: '0.1.0',
  instructions: 'Say here what this database holds, and when to use it.',
  offers: [
    wrapDatabase(env('DATABASE'), {
      name: ${quoted(serverName(info.name))},
      queries: new URL('./queries/', import.meta.url),
      // except: ['keepers.phone'],
      // query: false, // no statements of the model's own
    }),
  ],
});
`,
    },
  });
}

/** From a GraphQL schema: a starting set of operations, to be pruned. */
export function graphqlProject(
  info: ProjectInfo,
  { schema, operations, endpoint }: { readonly schema: string; readonly operations: ProjectFiles; readonly endpoint: string },
): ProjectFiles {
  return project(info, {
    about:
      'Operations of a GraphQL service as tools. `operations/` is a starting set: the queries of the schema with their scalar fields. Remove what no model needs, and say in the comment above each when to use it.',
    env: { GRAPHQL_URL: endpoint },
    dependencies: { graphql: '^16.0.0' },
    files: {
      'schema.graphql': `${schema}\n`,
      ...Object.fromEntries(Object.entries(operations).map(([file, text]) => [`operations/${file}`, text])),
      'server.ts': `import { defineServer, env, wrapGraphql } from 'jexo';

export default defineServer({
  name: ${quoted(serverName(info.name))},
  version: '0.1.0',
  instructions: 'Say here what this service knows, and when to use it.',
  offers: [
    wrapGraphql(new URL('./schema.graphql', import.meta.url), {
      name: ${quoted(serverName(info.name))},
      operations: new URL('./operations/', import.meta.url),
      endpoint: env('GRAPHQL_URL'),
      // auth: bearer(env('GRAPHQL_TOKEN')),
      // explore: true, // lets a model ask queries of its own
    }),
  ],
});
`,
    },
  });
}

/** From a folder of documents. */
export function folderProject(info: ProjectInfo, folder: string): ProjectFiles {
  return project(info, {
    about: 'A folder of documents: its files as resources, and tools that search them section by section.',
    env: { DOCUMENTS: folder },
    files: {
      'server.ts': `import { defineServer, wrapFolder } from 'jexo';

export default defineServer({
  name: ${quoted(serverName(info.name))},
  version: '0.1.0',
  instructions: 'Say here what these documents are about, and when to search them.',
  offers: [wrapFolder(process.env.DOCUMENTS ?? './documents', { name: ${quoted(serverName(info.name))}, search: true })],
});
`,
    },
  });
}

/** From requests that were made: endpoints to be edited, and a draft of a document. */
export function endpointsProject(info: ProjectInfo, { base, endpoints, auth, headers, inputs, secrets }: Guessed): ProjectFiles {
  const helpers = auth?.startsWith('basic') ? 'basic, ' : auth === undefined ? '' : 'bearer, ';
  const options = [
    `baseUrl: env('API_URL')`,
    ...(auth === undefined ? [] : [`auth: ${auth}`]),
    ...(Object.keys(headers).length > 0
      ? [
          `headers: { ${Object.entries(headers)
            .map(([name, variable]) => `${quoted(name)}: env('${variable}')`)
            .join(', ')} }`,
        ]
      : []),
    ...(Object.keys(inputs).length > 0
      ? [
          `inputs: { ${Object.entries(inputs)
            .map(([name, variable]) => `${quoted(name)}: { fix: env('${variable}') }`)
            .join(', ')} }`,
        ]
      : []),
  ];
  const draft = { ...endpointsDocument(endpoints as readonly Endpoint[], info.name), servers: [{ url: base }] };
  return project(info, {
    about:
      'Endpoints of an API as tools, guessed from requests that were made. Edit `endpoints.ts`: describe what each does and when to use it, and correct wrong guesses. `draft.openapi.yaml` says the same as an OpenAPI document.',
    env: { API_URL: base, ...secrets },
    files: {
      'endpoints.ts': `import type { Endpoint } from 'jexo';

/** Guessed from requests that were made: names, types and what is required are to be looked over. */
export const endpoints: Endpoint[] = ${literal(endpoints, '')};
`,
      'server.ts': `import { ${helpers}defineServer, env, wrapEndpoints } from 'jexo';
import { endpoints } from './endpoints.js';

export default defineServer({
  name: ${quoted(serverName(info.name))},
  version: '0.1.0',
  instructions: 'Say here what this API is for, and when to use it.',
  offers: [
    wrapEndpoints(endpoints, {
${options.map((option) => `      ${option},`).join('\n')}
    }),
  ],
});
`,
      'draft.openapi.yaml': stringify(draft, { lineWidth: 120 }),
    },
  });
}

/** JSON as a person writes it in a program. */
function literal(value: unknown, indent: string): string {
  if (typeof value === 'string') return quoted(value);
  if (typeof value !== 'object' || value === null) return JSON.stringify(value);
  const [open, close] = Array.isArray(value) ? ['[', ']'] : ['{', '}'];
  const parts = Array.isArray(value)
    ? value.map((item) => literal(item, `${indent}  `))
    : Object.entries(value).map(([key, item]) => `${/^[A-Za-z_$][\w$]*$/.test(key) ? key : quoted(key)}: ${literal(item, `${indent}  `)}`);
  if (parts.length === 0) return open + close;
  const inline = Array.isArray(value) ? `[${parts.join(', ')}]` : `{ ${parts.join(', ')} }`;
  if (inline.length + indent.length < 100 && !inline.includes('\n')) return inline;
  return `${open}\n${parts.map((part) => `${indent}  ${part},`).join('\n')}\n${indent}${close}`;
}

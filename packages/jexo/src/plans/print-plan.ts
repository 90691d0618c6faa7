import { relative } from 'node:path';
import { isEnvSetting } from '../sources/setting.js';
import { isRecord } from '../protocol/is-record.js';
import { databaseOptions, folderOptions } from './build-plan.js';
import { aboutOf, chainsOf, layersOf, partsOf, promptsOf, resourcesOf, viewsOf, type PlanPart } from './plan-parts.js';
import type { Plan } from './read-plan.js';

/** Printed as code, not as a value. */
class Raw {
  constructor(readonly code: string) {}
}

/** The same server as TypeScript. @param folder where the file will lie: its imports are relative to it */
// eslint-disable-next-line max-lines-per-function -- the parts share what is imported
export function printPlan(
  plan: Plan,
  values: Readonly<Record<string, string | undefined>>,
  folder: string,
  isServerModule: (file: string) => boolean,
): string {
  const used = new Set(['defineServer']);
  const imports: string[] = [];
  const use = (name: string) => {
    used.add(name);
    return name;
  };
  const from = (path: string) => {
    const text = relative(folder, path).replaceAll('\\', '/');
    return text.startsWith('.') ? text : `./${text}`;
  };
  const pathUrl = (path: string) => new Raw(`new URL(${JSON.stringify(from(path))}, import.meta.url)`);
  const filePath = (path: string) => {
    if (!imports.includes("import { fileURLToPath } from 'node:url';")) imports.push("import { fileURLToPath } from 'node:url';");
    return new Raw(`fileURLToPath(${pathUrl(path).code})`);
  };
  const isPath = (place: unknown): place is string => typeof place === 'string' && place.startsWith('/');
  const show = (value: unknown, indent: string): string => shown(value, indent, () => use('env'));
  const chosen = (part: PlanPart, code: string) =>
    Object.keys(part.choice).length === 0 ? code : `${use('offers')}([${code}], ${show(part.choice, '    ')})`;
  const code = (part: PlanPart, index: number): string => {
    const { kind, place, options } = part;
    if (kind === 'functions') {
      const file = place as string;
      const name = `module${index + 1}`;
      if (isServerModule(file)) {
        imports.push(`import ${name} from ${JSON.stringify(from(file))};`);
        return chosen(part, `...${name}.definition.offers`);
      }
      imports.push(`import * as ${name} from ${JSON.stringify(from(file))};`);
      return chosen(part, `${use('wrapFunctions')}(${name}, { types: ${pathUrl(file).code} })`);
    }
    const { auth, ...rest } = options as { auth?: Record<string, unknown> } & Record<string, unknown>;
    const proof = auth === undefined ? {} : { auth: authCode(auth, use, show) };
    const paths = Object.fromEntries(
      Object.entries(rest).map(([key, value]) => [key, ['operations', 'queries'].includes(key) && isPath(value) ? pathUrl(value) : value]),
    );
    if (kind === 'server') {
      const { headers, env: variables, ...own } = rest;
      const how = { ...(headers !== undefined && { headers }), ...(variables !== undefined && { env: variables }) };
      const given = isPath(place) ? filePath(place) : place;
      return `${use('wrapServer')}(${show(given, '    ')}, ${show(own, '    ')}${Object.keys(how).length > 0 ? `, ${show(how, '    ')}` : ''})`;
    }
    const wrap = {
      rest: 'wrapRest',
      endpoints: 'wrapEndpoints',
      graphql: 'wrapGraphql',
      database: 'wrapDatabase',
      folder: 'wrapFolder',
      topics: 'wrapTopics',
    }[kind]!;
    const own = kind === 'database' ? databaseOptions(paths) : kind === 'folder' ? folderOptions(paths) : { ...paths, ...proof };
    const given = isPath(place) ? (kind === 'database' ? filePath(place) : pathUrl(place)) : place;
    return chosen(part, `${use(wrap)}(${show(given, '    ')}${Object.keys(own).length > 0 ? `, ${show(own, '    ')}` : ''})`);
  };
  const parts = partsOf(plan, values);
  const made = parts.map((part, index) => ({ part, text: code(part, index) }));
  const chains = chainsOf(plan, values);
  const names = made.map(({ text, part }, index) => ({ name: `part${index + 1}`, text, isHidden: part.isHidden }));
  // Parts that chains call are named once, since a source is one value.
  const lines =
    chains.length > 0 ? names.map(({ name, text }) => `const ${name} = ${text.startsWith('...') ? `[${text}]` : `[${text}]`};`) : [];
  const listed =
    chains.length > 0
      ? names.filter(({ isHidden }) => !isHidden).map(({ name }) => `...${name}`)
      : made.filter(({ part }) => !part.isHidden).map(({ text }) => text);
  const inPlace = [
    ...(chains.length > 0 ? [`${use('chainTools')}([${names.map(({ name }) => `...${name}`).join(', ')}], ${show(chains, '    ')})`] : []),
    ...promptsOf(plan, values).map(
      ({ name, definition, messages }) =>
        `${use('prompt')}(${JSON.stringify(name)}, ${show(definition, '    ')}, (input: Record<string, string>) => [${messages.map(({ role, content }) => `{ role: '${role}', content: ${templateOf(content)} }`).join(', ')}])`,
    ),
    ...resourcesOf(plan, values).map(({ uri, definition, text, file }) => {
      if (file !== undefined && !imports.includes("import { readFileSync } from 'node:fs';"))
        imports.push("import { readFileSync } from 'node:fs';");
      return `${use('resource')}(${JSON.stringify(uri)}, ${show(definition, '    ')}, () => ${file === undefined ? JSON.stringify(text) : `readFileSync(${pathUrl(file).code}, 'utf8')`})`;
    }),
  ];
  const views = viewsOf(plan, values).map(({ of, name, definition, file, folder }) => {
    const place = file === undefined ? { folder: pathUrl(`${folder!}/`) } : { file: pathUrl(file) };
    return { of, text: `${use('view')}(${JSON.stringify(name)}, ${show({ ...definition, ...place }, '    ')})` };
  });
  const viewLines = views.map(({ text }, index) => `const view${index + 1} = ${text};`);
  const given = views.flatMap(({ of }, index) => of.map((tool) => `${JSON.stringify(tool)}: view${index + 1}`));
  const [open, close] = given.length > 0 ? [`${use('withViews')}([`, `], { ${given.join(', ')} })`] : ['[', ']'];
  const about = aboutOf(plan, values);
  const layers = layersOf(plan, values).map(
    ({ name, given }) => `${use(name)}(${given.map((each) => (isPath(each) ? filePath(each).code : show(each, '    '))).join(', ')})`,
  );
  const head = Object.entries(about).map(([key, value]) => `  ${key}: ${JSON.stringify(value)},`);
  return [
    `import { ${[...used].sort().join(', ')} } from 'jexo';`,
    ...imports,
    '',
    ...(lines.length + viewLines.length > 0 ? [...lines, ...viewLines, ''] : []),
    'export default defineServer({',
    ...head,
    `  offers: ${open}`,
    ...[...listed, ...inPlace].map((each) => `    ${each},`),
    `  ${close},`,
    ...(layers.length > 0 ? ['  middleware: [', ...layers.map((each) => `    ${each},`), '  ],'] : []),
    '});',
    '',
  ].join('\n');
}

function authCode(
  given: Readonly<Record<string, unknown>>,
  use: (name: string) => string,
  show: (value: unknown, indent: string) => string,
): Raw {
  const [[kind, value]] = Object.entries(given) as [[string, Record<string, unknown>]];
  if (kind === 'basic') return new Raw(`${use('basic')}(${show(value.user, '')}, ${show(value.password, '')})`);
  return new Raw(`${use(kind)}(${show(value, '      ')})`);
}

/** `{{lot}}` of a prompt's text as a template literal. */
const templateOf = (text: string): string =>
  `\`${text.replaceAll(/[`\\]|\$\{/g, '\\$&').replaceAll(/\{\{\s*([^{}]+?)\s*\}\}/g, (_, name: string) => `\${input[${JSON.stringify(name)}] ?? ''}`)}\``;

/** A value as TypeScript. */
function shown(value: unknown, indent: string, env: () => string): string {
  if (value instanceof Raw) return value.code;
  if (value instanceof RegExp) return String(value);
  if (isEnvSetting(value))
    return `${env()}(${[value.variable, ...(value.fallback === undefined ? [] : [value.fallback])].map((each) => JSON.stringify(each)).join(', ')})`;
  if (Array.isArray(value)) return `[${value.map((each) => shown(each, indent, env)).join(', ')}]`;
  if (!isRecord(value)) return JSON.stringify(value);
  const entries = Object.entries(value).filter(([, each]) => each !== undefined);
  if (entries.length === 0) return '{}';
  return `{ ${entries.map(([key, each]) => `${/^[A-Za-z_$][\w$]*$/.test(key) ? key : JSON.stringify(key)}: ${shown(each, indent, env)}`).join(', ')} }`;
}

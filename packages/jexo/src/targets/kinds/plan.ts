import { basename, dirname, resolve } from 'node:path';
import { JexoError } from '../../errors.js';
import type { OptionalPackage } from '../../optional-package.js';
import type { ConnectOptions } from '../connect.js';
import { defineServer, isServer } from '../../offers/define-server.js';
import type { Source } from '../../offers/source.js';
import type { WrapServerOptions } from '../../bridge/bridge-source.js';
import { limitByKey, seenWithKey } from '../../auth/keys.js';
import { buildPlan, type PlanTools } from '../../plans/build-plan.js';
import { nameOf } from '../../plans/plan-parts.js';
import { printPlan } from '../../plans/print-plan.js';
import { readPlan, type Plan } from '../../plans/read-plan.js';
import { wrapFunctions } from '../../sources/functions/wrap-functions.js';
import { entryOfFile } from '../entry-of-file.js';
import type { OpenHow, TargetKind } from '../target-kind.js';

/** A plan file: a server without code. */
export const planKind: TargetKind = {
  kind: 'plan',
  noun: 'a plan file',
  example: 'apiary.jexo.yaml',
  about: 'a plan file: a server put together from all of these, without code',
  runsCode: true,
  matches: (text) => /\.jexo\.(?:ya?ml|json)$/i.test(text) && !/^[a-z]+:\/\//i.test(text),
  async open(path, how) {
    const plan = await readPlan(path);
    adoptVariables(plan);
    const definition = await buildPlan(plan, await toolsFor(how), process.env);
    const { middleware = [] } = definition;
    const guarded = plan.serve?.keys !== undefined && { middleware: [limitByKey(), ...middleware], visible: seenWithKey };
    return {
      server: defineServer({
        ...definition,
        ...guarded,
        offers: [...definition.offers, ...(plan.secrets.length > 0 ? [secretsNoted(plan)] : [])],
      }),
      files: plan.files,
      ...(plan.serve && { serve: plan.serve }),
    };
  },
  async pack(path) {
    const file = resolve(path);
    const plan = await readPlan(path);
    const code = await codeOfPlan(path);
    return {
      imports: `import planned from 'plan';`,
      modules: { plan: code },
      server: 'planned',
      from: file,
      name: nameOf(path),
      beside: readWhereItRuns(code, dirname(file)),
      packages: packagesOf(plan),
    };
  },
  hostEntry: entryOfFile,
  name: (path) => nameOf(path),
};

/**
 * Folders, databases and texts are read where the server runs; documents, types and queries travel inside it.
 * @throws JexoError JEXO_PACK for what lies outside the plan's folder
 */
function readWhereItRuns(code: string, folder: string): { readonly path: string; readonly as: string }[] {
  const used = code.matchAll(/(wrapFolder\(|fileURLToPath\(|readFileSync\()new URL\(("(?:[^"\\]|\\.)*"), import\.meta\.url\)/g);
  return [...used].map(([, , text]) => {
    const as = (JSON.parse(text!) as string).replace(/^\.\//, '').replace(/\/$/, '');
    if (as.startsWith('..'))
      throw new JexoError('JEXO_PACK', `${as} lies outside the plan's folder, so it has no place beside a pack.`, {
        where: as,
        next: 'Move it into the folder of the plan.',
      });
    return { path: resolve(folder, as), as };
  });
}

function packagesOf({ entries }: Plan): OptionalPackage[] {
  const needed = entries.flatMap(({ kind, value }): OptionalPackage[] => {
    if (kind === 'graphql') return ['graphql'];
    if (kind === 'topics') return ['mqtt'];
    if (kind !== 'database') return [];
    const place = String(value.database).replace(
      /^\$\{(\w+)(?::-([^}]*))?\}$/,
      (_all, name: string, usual = '') => process.env[name] ?? String(usual),
    );
    return [/^postgres/.test(place) ? 'pg' : /^(?:mysql|mariadb):/.test(place) ? 'mysql2' : 'libsql'];
  });
  return [...new Set(needed)];
}

/** What `.env` beside the plan says holds where the environment says nothing. */
function adoptVariables({ variables }: Plan): void {
  for (const [name, value] of Object.entries(variables)) process.env[name] ??= value;
}

async function toolsFor(how: Pick<OpenHow, 'again' | 'fresh'>): Promise<PlanTools> {
  const [{ loadModule }, { wrapServer }] = await Promise.all([import('../load-module.js'), import('../wrap-server.js')]);
  return {
    async functions(file) {
      const { namespace } = await loadModule(file, how);
      return isServer(namespace.default) ? namespace.default.definition.offers : [wrapFunctions(namespace, { types: file })];
    },
    server(place, options) {
      const { headers, env, ...own } = options as { headers?: Record<string, string>; env?: Record<string, string> };
      const reach: Pick<ConnectOptions, 'headers' | 'env'> = { ...(headers && { headers }), ...(env && { env }) };
      return wrapServer(place, own as WrapServerOptions, reach);
    },
  };
}

/** Offers nothing; `jexo check` and `serve` say where a secret is written down. */
function secretsNoted({ secrets }: Plan): Source {
  return {
    name: 'secrets of the plan',
    read: () =>
      Promise.resolve({
        offers: [],
        notes: secrets.map(({ where, key }) => `${where}: ${key} is written down in the plan; read it from the environment: \${NAME}.`),
        remarks: secrets.map(({ where, key }) => ({
          rule: 'secret-in-plan',
          subject: key,
          where,
          message: 'A secret is written down in the plan.',
          remedy: `Put it into a variable and write ${key}: \${NAME}.`,
        })),
      }),
  };
}

/** The same server as TypeScript. @param folder where the file will lie @throws JexoError as opening the plan does */
export async function codeOfPlan(path: string, folder = dirname(resolve(path))): Promise<string> {
  const plan = await readPlan(path);
  adoptVariables(plan);
  const { loadModule } = await import('../load-module.js');
  const servers = new Set<string>();
  for (const { kind, value, folder: own } of plan.entries)
    if (kind === 'functions') {
      const file = resolve(own, value.functions as string);
      if (isServer((await loadModule(file, { again: false, fresh: false })).namespace.default)) servers.add(file);
    }
  return `// Made from ${basename(path)}.\n${printPlan(plan, process.env, folder, (file) => servers.has(file))}`;
}

import { connectLink } from '../client/connect-link.js';
import { connectUrl } from '../client/connect-url.js';
import type { ConnectionSpec, Opened, OpenOptions } from '../inspect/connection.js';
import type { Origins } from '../inspect/shelf.js';
import { troubleOf } from '../inspect/trouble.js';
import type { Choice } from '../offers/choose.js';
import type { Server } from '../offers/define-server.js';
import { openTarget } from '../targets/open-target.js';
import { watchTargets } from '../targets/watch-targets.js';
import { memoryLink } from '../transports/memory.js';
import { stdioLink } from '../transports/stdio-link.js';
import { isServerUrl, parseTarget } from '../targets/target.js';
import { readEntryOf } from '../hosts/host-file.js';
import { reportFault, type RestChoice } from './connect-target.js';
import { atRightPath } from './right-path.js';

/** Opens what a connection of the bench is about. A module is read again whenever it is saved. */
export async function openConnection(
  spec: ConnectionSpec,
  options: OpenOptions,
  choice: Choice | undefined,
  rest: RestChoice | undefined,
): Promise<Opened> {
  const { target, command, env, headers } = spec;
  if (command !== undefined) {
    const [program = '', ...args] = command;
    const link = stdioLink({ command: program, args, inherit: 'all', ...(env && { env }) }, options);
    return { client: await connectLink(link, options), omitted: [] };
  }
  const named = parseTarget(target);
  const entry = named.kind === 'entry' ? await readEntryOf(named.file, named.name) : undefined;
  if (entry?.kind === 'url')
    return { client: await openUrl(entry.url, { ...options, headers: { ...entry.headers, ...headers } }), omitted: [] };
  if (entry !== undefined) {
    const link = stdioLink({ command: entry.command, args: entry.args, env: { ...entry.env, ...env } }, options);
    return { client: await connectLink(link, options), omitted: [] };
  }
  if (isServerUrl(target)) return { client: await openUrl(target, { ...options, ...(headers && { headers }) }), omitted: [] };
  if (options.fresh) {
    const server = await openTarget(target, { fresh: true, ...(choice && { choice }), ...(rest && { rest }) });
    return { client: await connectLink(memoryLink(server, { ...options, onFault: reportFault }), options), omitted: [] };
  }
  const watched = await watchTargets([target], {
    ...(choice && { choice }),
    ...(rest && { rest }),
    onReload: (reloaded) =>
      options.onReloaded(reloaded.ok ? { omitted: reloaded.catalogue.omitted } : { trouble: troubleOf(reloaded.error) }),
  });
  try {
    const { omitted } = await watched.server.catalogue();
    const client = await connectLink(memoryLink(watched.server, { ...options, onFault: reportFault }), options);
    return { client, omitted, origins: () => originsOf(watched.server), end: watched.close };
  } catch (error) {
    watched.close();
    throw error;
  }
}

function openUrl(url: string, options: OpenOptions & { headers?: Readonly<Record<string, string>> }) {
  return atRightPath(url, options.headers, () => connectUrl(url, options as Parameters<typeof connectUrl>[1]));
}

async function originsOf(server: Server): Promise<Origins> {
  const { tools, resources, templates, prompts } = await server.catalogue();
  const origins: Record<string, { source: string; tags?: readonly string[] }> = {};
  for (const [kind, all] of Object.entries({ tool: tools, resource: resources, template: templates, prompt: prompts }))
    for (const [key, { offer, source }] of all as ReadonlyMap<string, { offer: { tags?: readonly string[] | undefined }; source: string }>)
      origins[`${kind} ${key}`] = { source, ...(offer.tags && { tags: offer.tags }) };
  return origins;
}

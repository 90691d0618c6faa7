import { signIn } from '../auth/sign-in/sign-in-here.js';
import type { SignInPage } from '../auth/sign-in/sign-in.js';
import { browserVisit } from '../auth/sign-in/visits.js';
import { connectLink } from '../client/connect-link.js';
import { JexoError } from '../errors.js';
import type { ConnectionSpec, Opened, OpenOptions } from '../inspect/connection.js';
import type { Origins } from '../inspect/shelf.js';
import { troubleOf } from '../inspect/trouble.js';
import type { Server } from '../offers/define-server.js';
import { connectRunning } from '../targets/connect.js';
import { findKind, type Found } from '../targets/find-kind.js';
import { openTarget } from '../targets/open-targets.js';
import { watchTargets } from '../targets/watch-targets.js';
import type { ClientAuth } from '../transports/http/client-auth.js';
import { memoryLink } from '../transports/memory.js';
import type { Opening } from './command.js';
import { reportFault } from './connect-target.js';
import { lazySignIn, openSignIns } from './terminal-sign-in.js';

/** Opens what a connection of the bench is about. What is read from files is read again whenever they are saved. */
export async function openConnection(spec: ConnectionSpec, options: OpenOptions, opening: Opening): Promise<Opened> {
  const { command, env, headers } = spec;
  const found = await findKind(command ?? spec.target, opening.kinds);
  const how = { ...opening, options: optionsFor(found, opening) };
  if (found.kind.open === undefined) {
    const { header: _, ...rest } = how.options;
    const client = await connectRunning(found, {
      ...options,
      options: rest,
      // A command that was typed here has what stands here.
      ...(command !== undefined && { inherit: 'all' as const }),
      ...(env && { env }),
      ...(headers && { headers }),
      auth: benchSignIn(options),
    });
    return { client, omitted: [] };
  }
  const linkOptions = { ...options, onFault: reportFault, owns: true };
  if (options.fresh) {
    const server = await openTarget(spec.target, { ...how, fresh: true });
    return { client: await connectLink(memoryLink(server, linkOptions), options), omitted: [] };
  }
  const watched = await watchTargets([spec.target], {
    ...how,
    onReload: (reloaded) =>
      options.onReloaded(reloaded.ok ? { omitted: reloaded.catalogue.omitted } : { trouble: troubleOf(reloaded.error) }),
  });
  try {
    const { omitted } = await watched.server.catalogue();
    const client = await connectLink(memoryLink(watched.server, linkOptions), options);
    return { client, omitted, origins: () => originsOf(watched.server), end: watched.close };
  } catch (error) {
    watched.close();
    await watched.server.close();
    throw error;
  }
}

/** Sends the person at the page to the authorization server; sign-ins are those of the terminal. */
function benchSignIn({ elicitation }: OpenOptions): ClientAuth {
  const open = async (page: SignInPage): Promise<void> => {
    const { endpoint, issuer, scopes, url, signal } = page;
    const what = scopes.length === 0 ? '' : ` for ${scopes.join(', ')}`;
    const said = await elicitation?.url?.({
      message: `${endpoint} wants a sign-in at ${issuer}${what}.`,
      url,
      elicitationId: url,
      warnings: [],
      asker: { server: new URL(endpoint).host },
      signal,
    });
    if (said?.action !== 'accept')
      throw new JexoError('JEXO_NOT_ACCEPTED', 'The sign-in was not wanted.', {
        where: endpoint,
        next: 'Connect again to be asked again.',
      });
  };
  return lazySignIn(async () => signIn({ store: await openSignIns(), visit: browserVisit({ open }) }));
}

/** Of the options for all targets of the bench, those that this one's kind takes. */
export function optionsFor({ kind }: Found, { options = {} }: Opening): Readonly<Record<string, unknown>> {
  const known = new Set((kind.options ?? []).map(({ name }) => name));
  return Object.fromEntries(Object.entries(options).filter(([name]) => known.has(name)));
}

async function originsOf(server: Server): Promise<Origins> {
  const { tools, resources, templates, prompts } = await server.catalogue();
  const origins: Record<string, { source: string; tags?: readonly string[] }> = {};
  for (const [kind, all] of Object.entries({ tool: tools, resource: resources, template: templates, prompt: prompts }))
    for (const [key, { offer, source }] of all as ReadonlyMap<string, { offer: { tags?: readonly string[] | undefined }; source: string }>)
      origins[`${kind} ${key}`] = { source, ...(offer.tags && { tags: offer.tags }) };
  return origins;
}

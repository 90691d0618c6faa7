import { offers, type Choice } from './choose.js';
import { defineServer, speaksTo, type Server } from './define-server.js';

/**
 * One server of several, with a choice among what they offer; a single one without a choice stays as it is.
 *
 * @param name what it calls itself. Default: the names of all
 * @param shown what a choice is among, for messages
 */
export function together(servers: readonly Server[], name: string | undefined, choice: Choice, shown: string): Server {
  const [first] = servers;
  const chooses = Object.values(choice).some((value) => value !== undefined);
  if (servers.length === 1 && name === undefined && !chooses) return first!;
  const all = servers.flatMap((server) => [...server.definition.offers]);
  const joined = defineServer({
    ...(servers.length === 1 && first!.definition),
    name: name ?? servers.map(({ info }) => info.name).join('-'),
    version: first!.info.version,
    offers: chooses ? [offers(all, { ...choice, name: shown })] : all,
    middleware: servers.flatMap(({ definition }) => [...(definition.middleware ?? [])]),
  });
  // What a module says to its own server reaches the sessions of this one.
  for (const each of servers) speaksTo(each, joined);
  return joined;
}

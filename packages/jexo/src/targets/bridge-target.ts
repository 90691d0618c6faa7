import { defineServer } from '../offers/define-server.js';
import { connect, type ConnectOptions } from './connect.js';
import { serverName } from './server-name.js';
import type { Opened } from './target-kind.js';
import { wrapServer } from './wrap-server.js';

/**
 * A running server as one of ours, which calls itself as that one does.
 * @throws what connecting to it throws: a wrong address is reported at once, and one that goes away later is waited for
 */
export async function bridgeTarget(
  connecting: Parameters<typeof wrapServer>[0],
  how: Pick<ConnectOptions, 'headers' | 'env' | 'options'>,
  name: string,
): Promise<Opened> {
  const client = await connect(connecting, how);
  const { serverInfo, instructions } = client.server;
  await client.close();
  const { title, version } = serverInfo;
  const server = defineServer({
    name: serverName(serverInfo.name),
    ...(title !== undefined && { title }),
    version: version || '0.0.0',
    ...(instructions !== undefined && { instructions }),
    offers: [wrapServer(connecting, { name }, how)],
  });
  return { server, files: [] };
}

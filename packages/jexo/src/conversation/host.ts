import type { Attendant } from '../client/attendance.js';
import type { CallOptions, Client } from '../client/client.js';
import type { Clients, Served } from '../client/clients.js';
import type { CallToolResult, GetPromptResult, ReadResourceResult, Tool } from '../protocol/types.js';

/** What a conversation needs of the servers it is held over. */
export interface Host {
  tools(options: CallOptions): Promise<readonly (Tool & Served)[]>;
  call(name: string, input: Record<string, unknown>, options: CallOptions): Promise<CallToolResult>;
  read(uri: string, server: string | undefined, options: CallOptions): Promise<ReadResourceResult>;
  prompt(name: string, input: Record<string, string>, options: CallOptions): Promise<GetPromptResult>;
  /** What the servers say on how they are used. */
  instructions(): readonly { readonly server: string; readonly text: string }[];
  attend(attendant: Attendant): () => void;
}

export function hostOf(clients: Clients | Client): Host {
  return 'servers' in clients ? overMany(clients) : overOne(clients);
}

function overMany(clients: Clients): Host {
  return {
    tools: (options) => clients.tools(options),
    call: (name, input, options) => clients.call(name, input, options),
    read: (uri, server, options) => clients.read(uri, { ...options, ...(server !== undefined && { server }) }),
    prompt: (name, input, options) => clients.prompt(name, input, options),
    instructions: () =>
      clients.servers().flatMap(({ name, state }) => {
        const text = state === 'ready' ? clients.client(name).server.instructions : undefined;
        return text === undefined || text === '' ? [] : [{ server: name, text }];
      }),
    attend: (attendant) => clients.attend(attendant),
  };
}

/** One client: what its server asks is answered by the handlers it was connected with. */
function overOne(client: Client): Host {
  const { serverInfo, instructions, capabilities } = client.server;
  return {
    async tools(options) {
      if (typeof capabilities.tools !== 'object' || capabilities.tools === null) return [];
      return (await client.tools(options)).map((tool) => ({
        ...tool,
        server: serverInfo.name,
        address: client.address,
        ownName: tool.name,
        label: `${serverInfo.title ?? serverInfo.name} › ${tool.title ?? tool.name}`,
      }));
    },
    call: (name, input, options) => client.call(name, input, options),
    read: (uri, _server, options) => client.read(uri, options),
    prompt: (name, input, options) => client.prompt(name, input, options),
    instructions: () => (instructions === undefined || instructions === '' ? [] : [{ server: serverInfo.name, text: instructions }]),
    attend: () => () => undefined,
  };
}

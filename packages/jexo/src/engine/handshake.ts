import { JexoError } from '../errors.js';
import { errorCodes, RpcError, type Params } from '../protocol/json-rpc.js';
import { isRevision, newestRevision, type Revision } from '../protocol/revisions.js';
import { shapeImplementation, shapeServerCapabilities } from '../protocol/shape-down.js';
import type { ClientCapabilities, Implementation, InitializeResult, ServerCapabilities } from '../protocol/types.js';
import type { Peer } from './peer.js';

export interface ServerHello {
  readonly info: Implementation;
  readonly capabilities: ServerCapabilities;
  readonly instructions?: string | undefined;
}

/** Answers `initialize`: the requested revision if we know it, else our newest (Lifecycle, "Version Negotiation"). */
export function answerInitialize(peer: Peer, params: Params, hello: ServerHello): object {
  if (peer.state !== 'new') throw new RpcError(errorCodes.invalidRequest, 'Invalid request: the session is already initialised');
  const { protocolVersion, capabilities, clientInfo } = params;
  if (typeof protocolVersion !== 'string') throw new RpcError(errorCodes.invalidParams, 'initialize: protocolVersion must be a string');
  if (typeof clientInfo?.name !== 'string' || typeof clientInfo.version !== 'string') {
    throw new RpcError(errorCodes.invalidParams, 'initialize: clientInfo must hold a name and a version');
  }
  if (typeof capabilities !== 'object' || capabilities === null || Array.isArray(capabilities)) {
    throw new RpcError(errorCodes.invalidParams, 'initialize: capabilities must be an object');
  }
  if (JSON.stringify(capabilities).length > mostCapabilityCharacters)
    throw new RpcError(errorCodes.invalidParams, `initialize: capabilities may have at most ${mostCapabilityCharacters} characters`);
  const revision = isRevision(protocolVersion) ? protocolVersion : newestRevision;
  peer.begin({ revision, remote: { info: introduced(clientInfo as Implementation), capabilities } });
  return {
    protocolVersion: revision,
    capabilities: shapeServerCapabilities(hello.capabilities, revision),
    serverInfo: shapeImplementation(hello.info, revision),
    ...(hello.instructions !== undefined && { instructions: hello.instructions }),
  };
}

/** What is kept of a client for as long as its session lives. */
const mostCapabilityCharacters = 16_384;
const mostNameCharacters = 256;

function introduced({ name, version, title }: Implementation): Implementation {
  const short = (text: string) => text.slice(0, mostNameCharacters);
  return { name: short(name), version: short(version), ...(typeof title === 'string' && { title: short(title) }) };
}

export interface ClientHello {
  readonly info: Implementation;
  readonly capabilities: ClientCapabilities;
  /** The revision to ask for. Default: the newest. */
  readonly revision?: Revision;
  readonly timeoutMs?: number;
  /** Called with the revision before anything else is sent: HTTP names it in a header from then on. */
  readonly onAgreed?: (revision: Revision) => void;
}

/**
 * Opens a conversation from the client's side and takes the server's answer as the session's terms.
 * @throws JexoError JEXO_REVISION when the server answers with a revision we do not speak
 */
export async function initialize(peer: Peer, hello: ClientHello): Promise<InitializeResult> {
  const revision = hello.revision ?? newestRevision;
  const result = await peer.request(
    'initialize',
    { protocolVersion: revision, capabilities: hello.capabilities, clientInfo: shapeImplementation(hello.info, revision) },
    hello.timeoutMs === undefined ? {} : { timeoutMs: hello.timeoutMs },
  );
  if (!isRevision(result.protocolVersion)) {
    throw new JexoError('JEXO_REVISION', `The server speaks revision ${JSON.stringify(result.protocolVersion)}, which is not known here.`);
  }
  const { protocolVersion, serverInfo = { name: 'unnamed', version: '' }, capabilities: declared = {} } = result as InitializeResult;
  peer.begin({ revision: protocolVersion, remote: { info: serverInfo, capabilities: declared } });
  hello.onAgreed?.(protocolVersion);
  peer.notify('notifications/initialized');
  return result as InitializeResult;
}

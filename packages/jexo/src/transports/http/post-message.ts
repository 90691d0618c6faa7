import { JexoError } from '../../errors.js';
import { encode, isRequestId, RpcError, type JsonRpcMessage, type RequestId } from '../../protocol/json-rpc.js';
import { posted } from '../link.js';
import { followAnswer } from './follow-answer.js';
import { strangerNext, type HttpConnection } from './http-connection.js';
import { judgeAnswer } from './judge-answer.js';
import { refused } from './link-errors.js';
import { isStream, readText } from './read-body.js';

type Message = JsonRpcMessage | readonly JsonRpcMessage[];

/** The ids of the requests in a message: those that are owed an answer. */
export function requestsOf(message: Message): RequestId[] {
  return ([message].flat() as JsonRpcMessage[]).flatMap((each) => ('method' in each && 'id' in each ? [each.id] : []));
}

/** Posts a message and takes what comes back (Transports, "Sending Messages to the Server"). @param isAgain in a new session */
export async function postMessage(
  connection: HttpConnection,
  message: Message,
  controller: AbortController,
  isAgain = false,
): Promise<void> {
  const { url } = connection;
  // While a new session is being made, only its own handshake may pass.
  if (connection.renewing !== undefined && !isHandshake(message)) await connection.renewing;
  const body = encode(message);
  connection.tap?.(posted(message, body, connection.shownHeaders()));
  const usedSession = connection.sessionId;
  const ids = requestsOf(message);
  const headers = connection.headers({ 'content-type': 'application/json', accept: 'application/json, text/event-stream' });
  const response = await connection.request({ method: 'POST', headers, body }, controller, ids);
  if (response.status === 404 && usedSession !== undefined && connection.events.renew !== undefined && !isHandshake(message)) {
    const error = await refused(url, response, true);
    // The session is gone, so the message was never taken: a new session gets it, once (Transports, "Session Management").
    if (isAgain) throw error;
    await connection.renew(usedSession);
    return postMessage(connection, message, controller, true);
  }
  if (!response.ok) throw await refusedOrAnswered(connection, response, usedSession, ids);
  if (!isHandshake(message)) connection.sessionHolds();
  else connection.sessionId ??= response.headers.get('mcp-session-id') ?? undefined;
  if (connection.onDeviation !== undefined) judgeAnswer(response, message, connection.onDeviation);
  if (isStream(response)) return followAnswer(connection, response, `HTTP ${response.status} stream`, ids, controller);
  await takeBody(connection, response, ids);
}

async function takeBody(connection: HttpConnection, response: Response, ids: readonly RequestId[]): Promise<void> {
  const { url, maxMessageBytes, events } = connection;
  const { text, isWhole } = await readText(response, maxMessageBytes);
  if (!isWhole) throw new JexoError('JEXO_TOO_LARGE', `${url} answered with more than ${maxMessageBytes} bytes.`, { where: url });
  if (text !== '' && response.status !== 202) {
    const answer = connection.take(text, `HTTP ${response.status}`, { status: response.status, headers: masked(response.headers) });
    refuseWithoutId(connection, answer, ids);
  }
  // Whatever was not answered by now will not be.
  const what = text === '' ? `nothing (HTTP ${response.status})` : 'a message that is no answer to it';
  for (const id of ids)
    events.failed(id, new JexoError('JEXO_NOT_PROTOCOL', `${url} answered the request with ${what}.`, { where: url, next: strangerNext }));
}

/** An error that names no request refuses the only one there was. */
function refuseWithoutId({ events }: HttpConnection, answer: unknown, ids: readonly RequestId[]): void {
  const { id, error } = (answer ?? {}) as { id?: unknown; error?: { code?: unknown; message?: unknown; data?: unknown } };
  if (ids.length !== 1 || (id !== undefined && id !== null) || typeof error !== 'object' || error === null) return;
  if (typeof error.code === 'number' && typeof error.message === 'string')
    events.failed(ids[0]!, new RpcError(error.code, error.message, error.data));
}

/** A status that says no may come with the protocol's own answer, which says more. */
async function refusedOrAnswered(
  connection: HttpConnection,
  response: Response,
  usedSession: string | undefined,
  ids: readonly RequestId[],
): Promise<JexoError> {
  const copy = response.clone();
  const { text } = await readText(copy, 64 * 1024).catch(() => ({ text: '' }));
  const error = await refused(connection.url, response, usedSession !== undefined);
  try {
    const value = JSON.parse(text) as { jsonrpc?: unknown; id?: unknown; error?: unknown };
    const isAnswer = value?.jsonrpc === '2.0' && isRequestId(value.id) && ids.includes(value.id) && value.error !== undefined;
    if (isAnswer && response.status !== 401)
      connection.take(text, `HTTP ${response.status}`, { status: response.status, headers: masked(response.headers) });
  } catch {
    // no answer of the protocol: the status has to do
  }
  return error;
}

function isHandshake(message: Message): boolean {
  return (message as { method?: string }).method === 'initialize';
}

function masked(headers: Headers): Record<string, string> {
  return Object.fromEntries(
    [...headers].map(([name, value]) => [name, /^(?:mcp-session-id|set-cookie)$/i.test(name) ? '(masked)' : value]),
  );
}

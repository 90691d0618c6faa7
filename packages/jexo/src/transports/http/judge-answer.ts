import type { JsonRpcMessage } from '../../protocol/json-rpc.js';
import type { Deviation } from '../link.js';
import { requestsOf } from './post-message.js';
import { isStream } from './read-body.js';

/** What the protocol wants of the answer to a POST (Transports, "Sending Messages to the Server" and "Session Management"). */
export function judgeAnswer(
  response: Response,
  message: JsonRpcMessage | readonly JsonRpcMessage[],
  tell: (deviation: Deviation) => void,
): void {
  const what = ([message].flat() as { method?: string }[]).map(({ method }) => method ?? 'an answer').join(', ');
  if (requestsOf(message).length === 0) {
    if (response.status !== 202)
      tell({ kind: 'headers', account: `${what} is answered with ${shown(response)}: what is no request is answered 202, with no body.` });
  } else if (!isStream(response) && !/^application\/json\s*(?:;|$)/i.test(response.headers.get('content-type') ?? ''))
    tell({ kind: 'headers', account: `${what} is answered with ${shown(response)}: it must be application/json or text/event-stream.` });
  const session = response.headers.get('mcp-session-id');
  if (session !== null && !/^[\x21-\x7e]+$/.test(session))
    tell({ kind: 'headers', account: `The session id ${JSON.stringify(session)} holds characters that are not visible ASCII.` });
}

/** An answer's status and type, for messages. */
export function shown({ status, headers }: Response): string {
  const type = headers.get('content-type');
  return `HTTP ${status} and ${type === null ? 'no content type' : `the content type ${type}`}`;
}

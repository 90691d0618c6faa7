import { isTooDeep, isValueTooDeep, maxDepth } from '../../protocol/depth.js';
import { errorCodes, readEnvelope, type Envelope } from '../../protocol/json-rpc.js';
import { ParsedBody, type RequestBody, type Responder } from './http-types.js';
import { refuse } from './replies.js';

/** What a POST carries, classified once. */
export interface Incoming {
  readonly value: object;
  /** Undefined for a list of messages. */
  readonly envelope: Envelope | undefined;
  /** How many answers the body will get. */
  readonly requests: number;
  readonly isInitialize: boolean;
}

/** True for a body that nests deeper than any message may. */
export function isBodyTooDeep(body: RequestBody): boolean {
  return body instanceof ParsedBody ? isValueTooDeep(body.value) : isTooDeep(body);
}

/** Reads the body of a POST; undefined when it has been refused. */
export function readMessage(body: RequestBody, cors: Record<string, string>, responder: Responder): Incoming | undefined {
  if (isBodyTooDeep(body)) {
    refuse(responder, 400, cors, `Bad request: the message nests deeper than ${maxDepth} levels`);
    return undefined;
  }
  let value: unknown;
  try {
    value = body instanceof ParsedBody ? body.value : JSON.parse(body);
  } catch {
    refuse(responder, 400, cors, 'Parse error: the body is not JSON', errorCodes.parseError);
    return undefined;
  }
  if (typeof value !== 'object' || value === null) {
    refuse(responder, 400, cors, 'Invalid request: a message must be a JSON object');
    return undefined;
  }
  if (Array.isArray(value))
    return { value, envelope: undefined, requests: value.length === 0 ? 1 : value.filter(isAnswered).length, isInitialize: false };
  const envelope = readEnvelope(value);
  const isRequest = envelope.kind === 'request';
  return {
    value,
    envelope,
    requests: isRequest ? 1 : 0,
    isInitialize: 'id' in value && (value as { method?: unknown }).method === 'initialize',
  };
}

/** Of a list, what is no legal message is answered with an error, so it counts. */
function isAnswered(value: unknown): boolean {
  if (typeof value !== 'object' || value === null) return true;
  if ('method' in value) return 'id' in value || typeof value.method !== 'string';
  return !('result' in value || 'error' in value);
}

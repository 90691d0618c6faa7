import { isRecord } from './is-record.js';
/** The envelope: JSON-RPC 2.0 as the protocol uses it (Base protocol, "Messages"). */

export type RequestId = string | number;

export interface JsonRpcRequest {
  readonly jsonrpc: '2.0';
  readonly id: RequestId;
  readonly method: string;
  readonly params?: Params;
}
export interface JsonRpcNotification {
  readonly jsonrpc: '2.0';
  readonly method: string;
  readonly params?: Params;
}
export interface JsonRpcResult {
  readonly jsonrpc: '2.0';
  readonly id: RequestId;
  readonly result: object;
}
export interface JsonRpcError {
  readonly jsonrpc: '2.0';
  /** Absent if the id of the request could not be read; some peers send null instead. */
  readonly id?: RequestId | null;
  readonly error: ErrorObject;
}
/** An error as it is sent (JSON-RPC 2.0, 5.1). */
export interface ErrorObject {
  readonly code: number;
  readonly message: string;
  readonly data?: unknown;
}
/** An answer: a result or an error, never both (JSON-RPC 2.0, 5). */
export type JsonRpcResponse = JsonRpcResult | JsonRpcError;
/** What travels between two sides: a request, a notification or an answer (Base protocol, "Messages"). */
export type JsonRpcMessage = JsonRpcRequest | JsonRpcNotification | JsonRpcResponse;
// eslint-disable-next-line @typescript-eslint/no-explicit-any -- params are judged by each method's own handler
export type Params = Record<string, any>;

/** The error codes of JSON-RPC and of the protocol. */
export const errorCodes = {
  parseError: -32700,
  invalidRequest: -32600,
  methodNotFound: -32601,
  invalidParams: -32602,
  internalError: -32603,
  resourceNotFound: -32002,
  /** Of ours: the caller is known, and lacks a scope. */
  forbidden: -32003,
  urlElicitationRequired: -32042,
  userRejected: -1,
} as const;

/** An error that travels in an error response, with its JSON-RPC code. */
export class RpcError extends Error {
  /** Always `RpcError`. */
  override readonly name = 'RpcError';
  constructor(
    readonly code: number,
    message: string,
    readonly data?: unknown,
  ) {
    super(message);
  }
}

const raw = Symbol.for('jexo.raw-json');

/** JSON that is already serialised, so that a listing is written once and sent many times. */
export class RawJson {
  readonly [raw] = true;
  constructor(readonly json: string) {}
}

/** Recognises what any copy of this package has serialised: a server may come from another one than what serves it. */
export function isRawJson(value: unknown): value is RawJson {
  return typeof value === 'object' && value !== null && raw in value;
}

export function encode(message: JsonRpcMessage | readonly JsonRpcMessage[]): string {
  if (!Array.isArray(message) && isRawJson((message as JsonRpcResult).result)) {
    const { id, result } = message as JsonRpcResult;
    return `{"jsonrpc":"2.0","id":${JSON.stringify(id)},"result":${(result as RawJson).json}}`;
  }
  if (Array.isArray(message)) return `[${message.map(encode).join(',')}]`;
  return JSON.stringify(message);
}

export type Envelope =
  | { readonly kind: 'request'; readonly message: JsonRpcRequest }
  | { readonly kind: 'notification'; readonly message: JsonRpcNotification }
  | { readonly kind: 'result'; readonly message: JsonRpcResult }
  | { readonly kind: 'error'; readonly message: JsonRpcError }
  | { readonly kind: 'invalid'; readonly why: string; readonly id: RequestId | undefined };

/** An id is kept as long as its request is answered; longer ones are no ids but freight. */
const mostIdCharacters = 1024;

export function isRequestId(value: unknown): value is RequestId {
  return typeof value === 'string' ? value.length <= mostIdCharacters : typeof value === 'number' && Number.isInteger(value);
}

/** Tells which of the four kinds a parsed value is, or why it is none of them. */
export function readEnvelope(value: unknown): Envelope {
  if (!isRecord(value)) return { kind: 'invalid', why: 'a message must be a JSON object', id: undefined };
  const id = isRequestId(value.id) ? value.id : undefined;
  if (value.jsonrpc !== '2.0') return { kind: 'invalid', why: 'jsonrpc must be "2.0"', id };
  if ('method' in value) {
    if (typeof value.method !== 'string') return { kind: 'invalid', why: 'method must be a string', id };
    if (value.params !== undefined && !isRecord(value.params)) return { kind: 'invalid', why: 'params must be an object', id };
    if (!('id' in value)) return { kind: 'notification', message: value as unknown as JsonRpcNotification };
    if (id === undefined) return { kind: 'invalid', why: 'id must be a string or an integer', id };
    return { kind: 'request', message: value as unknown as JsonRpcRequest };
  }
  if ('error' in value) {
    if ('result' in value) return { kind: 'invalid', why: 'a response has either result or error, not both', id };
    const error = value.error;
    if (!isRecord(error) || !Number.isInteger(error.code) || typeof error.message !== 'string') {
      return { kind: 'invalid', why: 'error must hold an integer code and a message', id };
    }
    if (id === undefined && value.id !== undefined && value.id !== null)
      return { kind: 'invalid', why: 'id must be a string or an integer', id };
    return { kind: 'error', message: value as unknown as JsonRpcError };
  }
  if ('result' in value) {
    if (!isRecord(value.result)) return { kind: 'invalid', why: 'result must be an object', id };
    if (id === undefined) return { kind: 'invalid', why: 'id must be a string or an integer', id };
    return { kind: 'result', message: value as unknown as JsonRpcResult };
  }
  return { kind: 'invalid', why: 'a message needs a method, a result or an error', id };
}

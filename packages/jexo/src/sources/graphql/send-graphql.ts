import { createHash } from 'node:crypto';
import { JexoError } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import { jsonOf } from '../http/read-answer.js';
import type { AskedBy, Received } from '../http/http-call.js';
import type { Upstream } from '../http/upstream.js';

/** One request to a GraphQL service. */
export interface GraphqlRequest {
  readonly name: string;
  readonly text: string;
  readonly variables: Readonly<Record<string, unknown>>;
  /** True for a query, which may be sent again. */
  readonly isRepeatable: boolean;
  /** Stands in for the text, where the service keeps it. */
  readonly documentId?: string;
}

/** What a service answered (GraphQL specification, section 7). */
export interface GraphqlAnswer {
  readonly data?: unknown;
  readonly errors?: readonly GraphqlFault[];
}

/** An error in an answer. */
export interface GraphqlFault {
  readonly message: string;
  readonly path?: readonly (string | number)[];
  readonly code?: string;
}

/** Sends requests to one endpoint. */
export interface GraphqlSender {
  /** The answer; or what was received, where it is no answer of GraphQL. */
  send(request: GraphqlRequest, by: AskedBy): Promise<{ readonly answer?: GraphqlAnswer; readonly received: Received }>;
  endpoint(): URL;
}

/** The id of a persisted document: a digest of its text. */
export const documentIdOf = (text: string): string => `sha256:${createHash('sha256').update(text).digest('hex')}`;

/** Sends by POST (GraphQL over HTTP). */
export function graphqlSender(upstream: Upstream, endpoint: () => URL): GraphqlSender {
  return {
    endpoint,
    async send({ name, text, variables, isRepeatable, documentId }, { signal, caller }) {
      const url = endpoint();
      const body = JSON.stringify({
        ...(documentId === undefined ? { query: text } : { documentId }),
        ...(name !== '' && { operationName: name }),
        ...(Object.keys(variables).length > 0 && { variables }),
      });
      const headers = {
        'Content-Type': 'application/json',
        Accept: 'application/graphql-response+json, application/json;q=0.9',
        ...upstream.headers(),
      };
      const received = await upstream.send({
        method: 'POST',
        url,
        headers,
        body,
        signal,
        ...(caller && { caller }),
        home: url.host,
        security: [],
        isRepeatable,
      });
      const answer = answerOf(received, upstream);
      return { received, ...(answer && { answer }) };
    },
  };
}

function answerOf(received: Received, upstream: Upstream): GraphqlAnswer | undefined {
  let value: unknown;
  try {
    value = jsonOf(received, upstream.clean)?.value;
  } catch {
    return undefined; // it says that it is JSON and is not
  }
  if (!isRecord(value) || (!('data' in value) && !Array.isArray(value.errors))) return undefined;
  const errors = Array.isArray(value.errors) ? value.errors.map(readFault) : [];
  return { data: value.data, ...(errors.length > 0 && { errors }) };
}

function readFault(given: unknown): GraphqlFault {
  if (!isRecord(given)) return { message: String(given) };
  const { message, path, extensions } = given;
  const code = isRecord(extensions) && typeof extensions.code === 'string' ? extensions.code : undefined;
  return {
    message: typeof message === 'string' ? message : 'It gave no message.',
    ...(Array.isArray(path) && { path: path as (string | number)[] }),
    ...(code !== undefined && { code }),
  };
}

/** `lots[2].moisture: not measured (NOT_FOUND)`. */
export function faultWords({ message, path, code }: GraphqlFault): string {
  const place = path?.map((step, at) => (typeof step === 'number' ? `[${step}]` : `${at > 0 ? '.' : ''}${step}`)).join('');
  return `${place ? `${place}: ` : ''}${message}${code === undefined ? '' : ` (${code})`}`;
}

/** @throws JexoError JEXO_SETTING, JEXO_DEFINITION when nothing says where the service is */
export function endpointUrl(text: string | undefined, shown: string): URL {
  if (text === undefined)
    throw new JexoError('JEXO_DEFINITION', `Nothing says where the service of ${shown} is.`, {
      where: shown,
      next: 'Give its address: endpoint in code, --endpoint at the terminal.',
    });
  if (!URL.canParse(text) || !/^https?:$/.test(new URL(text).protocol))
    throw new JexoError('JEXO_DEFINITION', `${text} is no address of a GraphQL service.`, {
      where: 'endpoint',
      next: 'Write it as https://ledger.example/graphql.',
    });
  return new URL(text);
}

/** What a pack for hosts of functions needs of the library; nothing of it needs Node. */
import type { Server } from '../offers/define-server.js';
import { fetchHandler } from '../transports/http/fetch-handler.js';

export * from '../browser.js';
export { defineServer } from '../offers/define-server.js';
export { thawServer } from '../offers/thaw.js';
export { together } from '../offers/together.js';
export { wrapFunctions } from '../sources/functions/wrap-functions.js';
export { env } from '../sources/setting.js';
export { apiKey, basic, bearer, clientCredentials, tokenExchange } from '../sources/http/auth.js';
export { wrapGraphql } from '../sources/graphql/wrap-graphql.js';
export { wrapEndpoints } from '../sources/rest/wrap-endpoints.js';
export { wrapRest } from '../sources/rest/wrap-rest.js';

/** A request as hosts of functions hand it over when they have no web-standard ones. */
export interface FunctionEvent {
  readonly requestContext?: { readonly http?: { readonly method?: string }; readonly domainName?: string };
  readonly httpMethod?: string;
  readonly rawPath?: string;
  readonly path?: string;
  readonly rawQueryString?: string;
  readonly queryStringParameters?: Readonly<Record<string, string>> | null;
  readonly headers?: Readonly<Record<string, string | undefined>>;
  readonly body?: string | null;
  readonly isBase64Encoded?: boolean;
}

/** An answer in the same shape. */
export interface FunctionResult {
  readonly statusCode: number;
  readonly headers: Record<string, string>;
  readonly body: string;
}

/** Answers at any path but `/health` and `/ready`, each request by itself. */
export function answerRequests(server: Server): {
  fetch(request: Request): Promise<Response>;
  handler(event: FunctionEvent): Promise<FunctionResult>;
} {
  const answer = fetchHandler(server, { sessions: false });
  const fetch = async (request: Request): Promise<Response> => {
    const { pathname } = new URL(request.url);
    if (!/\/(?:health|ready)$/.test(pathname)) return answer(request);
    try {
      await server.ready();
      return new Response('ready\n');
    } catch {
      return new Response('failed\n', { status: 503 }); // the reason is for the host's log, which gets it with the first call
    }
  };
  return {
    fetch,
    async handler(event) {
      const { requestContext, rawPath, path, rawQueryString, queryStringParameters, headers = {}, body, isBase64Encoded } = event;
      const given = new Headers(
        Object.entries(headers).flatMap(([name, value]) => (value === undefined ? [] : [[name, value] as [string, string]])),
      );
      const host = given.get('host') ?? requestContext?.domainName ?? 'localhost';
      const query = rawQueryString ?? new URLSearchParams(queryStringParameters ?? {}).toString();
      const method = requestContext?.http?.method ?? event.httpMethod ?? 'GET';
      const text = body == null ? undefined : isBase64Encoded ? decoded(body) : body;
      const answered = await fetch(
        new Request(`https://${host}${rawPath ?? path ?? '/'}${query === '' ? '' : `?${query}`}`, {
          method,
          headers: given,
          ...(text !== undefined && method !== 'GET' && method !== 'HEAD' && { body: text }),
        }),
      );
      return { statusCode: answered.status, headers: Object.fromEntries(answered.headers), body: await answered.text() };
    },
  };
}

const decoded = (base64: string) => new TextDecoder().decode(Uint8Array.from(atob(base64), (letter) => letter.charCodeAt(0)));

import { errorCodes } from '../../protocol/json-rpc.js';

/** Ids of the requests that an event answers. */
export function answersIn(text: string): (string | number)[] {
  const data = /^data: (.+)$/m.exec(text)?.[1];
  if (data === undefined) return [];
  return [JSON.parse(data) as object].flat().flatMap((each) => {
    const { id, method } = each as { id?: string | number; method?: unknown };
    return id !== undefined && method === undefined ? [id] : [];
  });
}

/** The answer to a request whose process has died. */
export const lost = (id: string | number) => ({
  jsonrpc: '2.0' as const,
  id,
  error: {
    code: errorCodes.internalError,
    message: 'The process that worked on this has ended. It may have been done or not: call again if that does no harm.',
    data: { retryable: true },
  },
});

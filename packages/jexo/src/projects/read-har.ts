import { JexoError } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';
import type { RecordedRequest } from './parse-curl.js';

/** What browsers load beside the data. */
const furniture = /^(?:image|font|audio|video)\/|css|javascript|text\/html|wasm/i;

interface Entry {
  readonly request?: {
    readonly method?: string;
    readonly url?: string;
    readonly headers?: readonly { readonly name: string; readonly value: string }[];
    readonly postData?: {
      readonly mimeType?: string;
      readonly text?: string;
      readonly params?: readonly { readonly name: string; readonly value?: string; readonly fileName?: string }[];
    };
  };
  readonly response?: {
    readonly status?: number;
    readonly content?: { readonly mimeType?: string; readonly text?: string; readonly encoding?: string };
  };
}

/**
 * The requests of a HAR recording that are an API's: those of the host that most data came from, without pages, pictures and scripts.
 * @throws JexoError JEXO_USAGE when it is no recording, or holds no such request
 */
export function readHar(text: string, file: string): RecordedRequest[] {
  let value: unknown;
  try {
    value = JSON.parse(text.replace(/^\uFEFF/, ''));
  } catch {
    throw new JexoError('JEXO_USAGE', `${file} is not JSON, so it is no HAR recording.`, { where: file });
  }
  const log = isRecord(value) && isRecord(value.log) ? value.log : undefined;
  if (log === undefined || !Array.isArray(log.entries))
    throw new JexoError('JEXO_USAGE', `${file} is no HAR recording: it has no log.entries.`, {
      where: file,
      next: 'Save one from the network view of a browser.',
    });
  const found = (log.entries as Entry[]).flatMap(({ request, response }): RecordedRequest[] => {
    const { method = 'GET', url = '', headers = [], postData } = request ?? {};
    const { status = 0, content = {} } = response ?? {};
    const isData =
      /json/i.test(content.mimeType ?? '') || postData !== undefined || (status > 0 && !furniture.test(content.mimeType ?? 'text/html'));
    if (!URL.canParse(url) || !/^https?:/.test(url) || !isData || !/^(?:GET|POST|PUT|PATCH|DELETE)$/i.test(method)) return [];
    const type = postData?.mimeType?.split(';')[0] ?? '';
    const params = postData?.params ?? [];
    const body =
      postData === undefined
        ? undefined
        : params.length > 0 && /multipart/.test(type)
          ? { type, fields: params.map(({ name, value: each = '', fileName }) => [name, each, fileName !== undefined] as const) }
          : {
              type: type || 'application/json',
              text:
                postData.text ??
                params.map(({ name, value: each = '' }) => `${encodeURIComponent(name)}=${encodeURIComponent(each)}`).join('&'),
            };
    const isJson = /json/i.test(content.mimeType ?? '') && content.text !== undefined && status >= 200 && status < 300;
    const said =
      content.encoding === 'base64'
        ? new TextDecoder().decode(Uint8Array.from(atob(content.text ?? ''), (letter) => letter.charCodeAt(0)))
        : content.text;
    return [
      {
        method: method.toUpperCase(),
        url: new URL(url),
        headers: headers.map(({ name, value: each }) => [name, each] as const),
        ...(body && { body }),
        ...(isJson && { answer: { type: content.mimeType!, text: said! } }),
      },
    ];
  });
  const counts = new Map<string, number>();
  for (const { url } of found) counts.set(url.host, (counts.get(url.host) ?? 0) + 1);
  const [host] = [...counts].sort((a, b) => b[1] - a[1])[0] ?? [];
  if (host === undefined)
    throw new JexoError('JEXO_USAGE', `${file} holds no request for data.`, {
      where: file,
      next: 'Record again while the page loads or saves something.',
    });
  return found.filter(({ url }) => url.host === host);
}

import { JexoError, messageOf } from '../../errors.js';
import { readText, retryAfterOf } from './read-body.js';

/** Why no connection came about, in words. */
export function unreachable(url: string, error: unknown): JexoError {
  const cause = (error as { cause?: { code?: string; message?: string; errors?: { code?: string }[] } }).cause;
  const code = cause?.code ?? cause?.errors?.[0]?.code ?? (error as { code?: string }).code ?? '';
  const known: Partial<Record<string, readonly [why: string, next?: string]>> = {
    ECONNREFUSED: ['nothing is listening there'],
    ENOTFOUND: ['the host name is not known', 'Check the spelling of the host, and that this machine is online.'],
    EAI_AGAIN: ['the host name could not be looked up', 'Check that this machine is online.'],
    ECONNRESET: ['the connection was cut'],
    EPIPE: ['the connection was cut'],
    UND_ERR_SOCKET: ['the connection was cut'],
    ETIMEDOUT: ['it did not answer in time'],
    UND_ERR_CONNECT_TIMEOUT: ['it did not answer in time'],
    UND_ERR_HEADERS_TIMEOUT: ['it took the connection and did not answer'],
    UND_ERR_HEADERS_OVERFLOW: ['its headers are too large'],
    HPE_INVALID_CONSTANT: ['what answers there does not speak HTTP', 'Check the port; an address that serves TLS begins with https.'],
  };
  const isHttps = /^https:/i.test(url);
  const found =
    known[code] ??
    (isHttps && /^(?:ERR_SSL|EPROTO)/.test(code)
      ? (['what answers there does not speak TLS', `If it serves plain HTTP, use ${url.replace(/^https/i, 'http')}.`] as const)
      : /^(?:CERT|DEPTH_ZERO|UNABLE_TO|SELF_SIGNED|ERR_TLS)/.test(code)
        ? ([
            `its certificate is not trusted (${code})`,
            'If it is your own, name its authority in NODE_EXTRA_CA_CERTS; otherwise ask who runs the server.',
          ] as const)
        : /^HPE_/.test(code)
          ? ([
              'what answers there does not speak HTTP',
              isHttps ? 'Check the port.' : `If it serves TLS, use ${url.replace(/^http/i, 'https')}.`,
            ] as const)
          : undefined);
  const [why, next] = found ?? [code === '' ? messageOf(error) : code];
  return new JexoError('JEXO_CONNECT', `No connection to ${url}: ${why}.`, {
    where: url,
    cause: error,
    ...(next !== undefined && { next }),
  });
}

/** What a server said beside its refusal: words a person can use, never a page. */
interface Said {
  readonly words: string;
  readonly rpc: { readonly code: number; readonly message: string; readonly data?: unknown } | undefined;
}

function readSaid(text: string, type: string): Said {
  try {
    const body = JSON.parse(text) as { error?: unknown; message?: unknown; title?: unknown; detail?: unknown };
    const { error } = body;
    if (typeof error === 'object' && error !== null && typeof (error as { message?: unknown }).message === 'string') {
      const { code, message, data } = error as { code?: unknown; message: string; data?: unknown };
      return { words: message, rpc: typeof code === 'number' ? { code, message, data } : undefined };
    }
    const words = [error, body.message, body.title, body.detail].find((each) => typeof each === 'string');
    return { words: typeof words === 'string' ? words : '', rpc: undefined };
  } catch {
    const isPage = /html/i.test(type) || /^\s*<(?:!doctype|html)/i.test(text);
    const title = isPage ? /<title[^>]*>([^<]{1,120})/i.exec(text)?.[1]?.trim() : undefined;
    const words = isPage ? (title === undefined ? '' : `a web page, “${title}”`) : text.trim().split('\n')[0]!.slice(0, 200);
    return { words, rpc: undefined };
  }
}

/**
 * What an HTTP status means, and what to do about it. Of `data`: `status`; `rpc`, the error of the protocol in the body, with its code;
 * `wwwAuthenticate`, the challenge as it came; `retryAfterMs`.
 */
export async function refused(url: string, response: Response, hadSession: boolean): Promise<JexoError> {
  const { text } = await readText(response, 64 * 1024).catch(() => ({ text: '' }));
  const { words, rpc } = readSaid(text, response.headers.get('content-type') ?? '');
  const detail = words === '' ? '' : `: ${words}`;
  const { status, headers } = response;
  if (status === 404 && hadSession)
    return new JexoError('JEXO_SESSION_LOST', `${url} no longer knows this session${detail}`, { where: url, data: { status } });
  const wwwAuthenticate = headers.get('www-authenticate') ?? undefined;
  const retryAfterMs = retryAfterOf(headers);
  const later = retryAfterMs === undefined ? 'later' : `in ${Math.max(1, Math.ceil(retryAfterMs / 1000))} seconds`;
  const advice: Partial<Record<number, string>> = {
    401: `This server wants a sign-in. Try: jexo sign-in ${url}, or give its key or token with --header "Authorization: Bearer ...".`,
    403: 'The server knows who is calling and does not allow it; or it does not answer for this host name or web page.',
    404: 'Check the path of the address; most servers answer at /mcp.',
    405: 'The address does not take POST. Check its path; most servers answer at /mcp.',
    407: 'A proxy between here and there wants a sign-in.',
    413: 'Send less at once.',
    429: `The server wants fewer requests. Try again ${later}.`,
  };
  const next = advice[status] ?? (status >= 500 ? `The fault is on the server’s side. Try again ${later}.` : undefined);
  return new JexoError('JEXO_HTTP_STATUS', `${url} answered with HTTP ${status}${detail}`, {
    where: url,
    data: {
      status,
      ...(rpc && { rpc }),
      ...(wwwAuthenticate !== undefined && { wwwAuthenticate }),
      ...(retryAfterMs !== undefined && { retryAfterMs }),
    },
    ...(next !== undefined && { next }),
  });
}

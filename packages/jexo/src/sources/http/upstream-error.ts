import { JexoError, messageOf } from '../../errors.js';

/** An error of an upstream service, which names the service and the address without its query. */
export function upstreamError(title: string, { origin, pathname }: URL, what: string, next?: string, cause?: unknown): JexoError {
  return new JexoError('JEXO_REST', `${title} ${what}`, { where: `${origin}${pathname}`, ...(next !== undefined && { next }), cause });
}

/** Nothing came back: the request may be sent again, when it may be repeated at all. */
export class UnreachedError extends JexoError {
  constructor(title: string, { origin, pathname }: URL, cause: unknown) {
    super('JEXO_REST', `${title} cannot be reached: ${reasonOf(cause)}.`, {
      where: `${origin}${pathname}`,
      next: 'Try again later. If it keeps failing, contact the operator of this server.',
      cause,
    });
  }
}

const reasons: Readonly<Record<string, string>> = {
  ECONNREFUSED: 'nothing listens at its address',
  ENOTFOUND: 'there is no machine of that name',
  ECONNRESET: 'it cut the connection',
  UND_ERR_SOCKET: 'it cut the connection',
  ETIMEDOUT: 'the connection timed out',
  UND_ERR_HEADERS_OVERFLOW: 'its headers are too large',
};

function reasonOf(error: unknown): string {
  const inner = (error as { cause?: { code?: string; message?: string } }).cause;
  const code = inner?.code ?? (error as { code?: string }).code;
  return (code !== undefined && reasons[code]) || inner?.message || messageOf(error);
}

import { connectUrl } from '../../client/connect-url.js';
import { JexoError } from '../../errors.js';
import { readHeaders } from '../read-headers.js';
import { atRightPath } from '../right-path.js';
import type { TargetKind } from '../target-kind.js';
import { isDocumentUrl } from './document.js';

/** The address of a running server; one that ends like a file is a document's. */
export const urlKind: TargetKind = {
  kind: 'url',
  noun: 'a running server',
  example: 'http://127.0.0.1:4300/mcp',
  about: 'a running server',
  options: [
    {
      name: 'header',
      flags: '--header <name: value...>',
      about: 'send this header with every HTTP request',
      read: (text, before = []) => [...(before as string[]), text],
    },
  ],
  matches: (text) => /^https?:\/\//i.test(text) && !isDocumentUrl(text),
  async connect(url, options) {
    if (!URL.canParse(url)) throw new JexoError('JEXO_TARGET_UNKNOWN', `${url} is not a URL.`, { where: url });
    const headers = headersOf(options.options, options.headers);
    return atRightPath(url, headers, () => connectUrl(url, { ...options, headers }));
  },
  async bridge(url, { options }) {
    const { bridgeTarget } = await import('../bridge-target.js');
    const headers = headersOf(options);
    await atRightPath(url, headers, async () => (await connectUrl(url, { headers })).close());
    return bridgeTarget(url, { headers }, new URL(url).host);
  },
  name: (url) => new URL(url).hostname.replace(/^www\./, '').replace(/^(?:127\.0\.0\.1|localhost)$/, 'local_server'),
  hostEntry: async (url, { options }) => ({ kind: 'url', url, headers: headersOf(options) }),
};

function headersOf(
  options: Readonly<Record<string, unknown>> | undefined,
  given: Readonly<Record<string, string>> = {},
): Record<string, string> {
  return { ...given, ...readHeaders(options?.header as readonly string[] | undefined) };
}

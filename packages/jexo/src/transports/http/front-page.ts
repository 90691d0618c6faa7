import { readFile } from 'node:fs/promises';
import { packageFile, packageText } from '../../own-package.js';

/** A page, and the policy that lets it run what it holds and nothing else. */
export interface FrontPage {
  readonly html: string;
  readonly policy: string;
}

/**
 * The page at the root of a served server (`apps/inspector/src/front.tsx`): what it offers, a form to try each, how to put it into a host
 * application. Script and style are inside, so it needs no other file.
 * @param endpoint the endpoint's path
 * @throws JexoError JEXO_INSTALLATION
 */
export async function frontPage(endpoint: string): Promise<FrontPage> {
  const script = packageText('dist/front.js');
  const style = await readFile(packageFile('dist/front.css'), 'utf8');
  const digest = Buffer.from(await crypto.subtle.digest('SHA-256', new TextEncoder().encode(script))).toString('base64');
  const attribute = endpoint.replaceAll('&', '&amp;').replaceAll('"', '&quot;');
  const html = `<!doctype html><html lang="en" data-endpoint="${attribute}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Server</title><style>${style}</style></head><body><main><p>Asking the server what it offers…</p></main><script type="module">${script}</script></body></html>`;
  return {
    html,
    policy: `default-src 'none'; connect-src 'self'; style-src 'unsafe-inline'; script-src 'sha256-${digest}'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'`,
  };
}

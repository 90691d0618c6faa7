import type { IncomingMessage, ServerResponse } from 'node:http';

/** A page for a person: a heading, sentences, and a button. Every text is escaped. */
export interface AccountPage {
  readonly title: string;
  readonly lines: readonly string[];
  /** What is posted when the person agrees. */
  readonly agree?: { readonly label: string; readonly hidden: Readonly<Record<string, string>> };
  /** The origin that agreeing leads to: a form may be sent there. */
  readonly leadsTo?: string;
}

const escaped = (text: string) => text.replaceAll(/[&<>"']/g, (char) => `&#${char.charCodeAt(0)};`);

/** Sends a page that runs nothing, is framed by nobody, and is kept nowhere. */
export function sendPage(
  response: ServerResponse,
  status: number,
  { title, lines, agree, leadsTo = '' }: AccountPage,
  headers: Readonly<Record<string, string>> = {},
): void {
  const form =
    agree === undefined
      ? ''
      : `<form method="post">${Object.entries(agree.hidden)
          .map(([name, value]) => `<input type="hidden" name="${escaped(name)}" value="${escaped(value)}">`)
          .join('')}<button>${escaped(agree.label)}</button></form>`;
  response
    .writeHead(status, {
      'content-type': 'text/html; charset=utf-8',
      'content-security-policy': `default-src 'none'; style-src 'unsafe-inline'; form-action 'self' ${leadsTo}; frame-ancestors 'none'; base-uri 'none'`,
      'x-frame-options': 'DENY',
      'referrer-policy': 'no-referrer',
      'cache-control': 'no-store',
      'x-content-type-options': 'nosniff',
      ...headers,
    })
    .end(
      `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><meta name="color-scheme" content="light dark"><title>${escaped(title)}</title><style>${style}</style><main><h1>${escaped(title)}</h1>${lines.map((line) => `<p>${escaped(line)}</p>`).join('')}${form}</main></html>`,
    );
}

const style =
  'body{font:1.05rem/1.55 system-ui,sans-serif}main{margin:14vh auto 0;max-width:32rem;padding:0 1.5rem}h1{font-size:1.5rem;line-height:1.25}button{font:inherit;padding:.55rem 1.2rem;margin-top:.5rem;cursor:pointer}p{overflow-wrap:anywhere}';

const mostFormBytes = 10_000;

/** The fields of a posted form; undefined when it is none, or too long. */
export async function readForm(request: IncomingMessage): Promise<URLSearchParams | undefined> {
  if (!/^application\/x-www-form-urlencoded\b/i.test(request.headers['content-type'] ?? '')) return undefined;
  const parts: Buffer[] = [];
  let bytes = 0;
  for await (const part of request as AsyncIterable<Buffer>) {
    bytes += part.length;
    if (bytes > mostFormBytes) return undefined;
    parts.push(part);
  }
  return new URLSearchParams(Buffer.concat(parts).toString('utf8'));
}

/** A cookie of a request. */
export function cookieOf(request: IncomingMessage, name: string): string | undefined {
  const found = (request.headers.cookie ?? '').split(/;\s*/).find((each) => each.startsWith(`${name}=`));
  return found?.slice(name.length + 1);
}

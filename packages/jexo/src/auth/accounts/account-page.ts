import type { IncomingMessage, ServerResponse } from 'node:http';
import { escapeHtml, personPage, personPageHeaders } from '../person-page.js';

/** A page for a person: a heading, sentences, and a button. Every text is escaped. */
export interface AccountPage {
  readonly title: string;
  readonly lines: readonly string[];
  /** What is posted when the person agrees. */
  readonly agree?: { readonly label: string; readonly hidden: Readonly<Record<string, string>> };
  /** The origin that agreeing leads to: a form may be sent there. */
  readonly leadsTo?: string;
}

/** Sends a page. */
export function sendPage(
  response: ServerResponse,
  status: number,
  { title, lines, agree, leadsTo = '' }: AccountPage,
  headers: Readonly<Record<string, string>> = {},
): void {
  const hidden = Object.entries(agree?.hidden ?? {}).map(
    ([name, value]) => `<input type="hidden" name="${escapeHtml(name)}" value="${escapeHtml(value)}">`,
  );
  const form = agree === undefined ? '' : `<form method="post">${hidden.join('')}<button>${escapeHtml(agree.label)}</button></form>`;
  response.writeHead(status, { ...personPageHeaders(leadsTo), ...headers }).end(personPage(title, lines, form));
}

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

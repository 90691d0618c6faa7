const style = `:root{--paper:#f5f8f7;--raised:#fff;--ink:#172224;--line:#d3dcda;--lake:#0b5f73;--on:#fff}
@media(prefers-color-scheme:dark){:root{--paper:#12181a;--raised:#1a2224;--ink:#e4ebea;--line:#2e3a3c;--lake:#6ec3d4;--on:#12181a}}
body{background:var(--paper);color:var(--ink);font:1.05rem/1.55 system-ui,sans-serif;margin:0;padding:12vh 1rem 2rem}
main{background:var(--raised);border:1px solid var(--line);border-radius:6px;max-width:34rem;margin:0 auto;padding:1.5rem 1.75rem}
h1{font-size:1.4rem;line-height:1.25;margin:0 0 .75rem}p{margin:0 0 .75rem;overflow-wrap:anywhere}
button{font:inherit;font-weight:600;background:var(--lake);color:var(--on);border:0;border-radius:4px;padding:.6rem 1.3rem;margin-top:.25rem;cursor:pointer}
button:focus-visible{outline:3px solid var(--lake);outline-offset:2px}`;

/** A text as HTML has it. */
export const escapeHtml = (text: string): string => text.replaceAll(/[&<>"']/g, (char) => `&#${char.charCodeAt(0)};`);

/** A page for a person, in both themes. @param body HTML after the title and the sentences */
export function personPage(title: string, lines: readonly string[], body = ''): string {
  const heading = escapeHtml(title);
  const paragraphs = lines.map((line) => `<p>${escapeHtml(line)}</p>`).join('');
  return `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><meta name="color-scheme" content="light dark"><title>${heading}</title><style>${style}</style><main><h1>${heading}</h1>${paragraphs}${body}</main></html>`;
}

/** Headers of such a page: it runs nothing, is framed by nobody, and is kept nowhere. @param leadsTo an origin that its form leads to */
export const personPageHeaders = (leadsTo = ''): Readonly<Record<string, string>> => ({
  'content-type': 'text/html; charset=utf-8',
  'content-security-policy': `default-src 'none'; style-src 'unsafe-inline'; form-action 'self' ${leadsTo}; frame-ancestors 'none'; base-uri 'none'`,
  'x-frame-options': 'DENY',
  'referrer-policy': 'no-referrer',
  'cache-control': 'no-store',
  'x-content-type-options': 'nosniff',
});

// Serves the built assistant on this machine: node serve.mjs [port]. It says its address as a line of JSON.
import { createServer } from 'node:http';
import { readFile } from 'node:fs/promises';
import { extname, join, normalize } from 'node:path';
import { fileURLToPath } from 'node:url';
import { sandboxPage } from 'jexo/view/host';

const root = fileURLToPath(new URL('./dist/', import.meta.url));
const types = { '.html': 'text/html; charset=utf-8', '.js': 'text/javascript', '.css': 'text/css', '.svg': 'image/svg+xml' };

/** Pages of servers are shown on an origin of their own: another port is one. */
let own = '';
const sandbox = createServer((_request, response) => {
  response
    .writeHead(200, { 'content-type': 'text/html; charset=utf-8', 'content-security-policy': `frame-ancestors ${own}` })
    .end(sandboxPage);
});
await new Promise((resolve) => sandbox.listen(0, '127.0.0.1', resolve));
const shows = `http://127.0.0.1:${sandbox.address().port}`;

const server = createServer(async (request, response) => {
  const { pathname } = new URL(request.url ?? '/', 'http://127.0.0.1');
  const file = normalize(join(root, pathname === '/' ? 'index.html' : pathname));
  try {
    if (!file.startsWith(root)) throw new Error('outside');
    const isPage = file.endsWith('.html');
    const read = await readFile(file);
    const body = isPage ? String(read).replace('</head>', `<meta name="sandbox" content="${shows}/" /></head>`) : read;
    response.writeHead(200, {
      'content-type': types[extname(file)] ?? 'application/octet-stream',
      // Scripts of its own only; it connects to whichever servers a person names.
      'content-security-policy':
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; connect-src *; frame-ancestors 'none'; frame-src " +
        shows,
    });
    response.end(body);
  } catch {
    response.writeHead(404).end('There is nothing here.');
  }
});
server.on('error', (error) => {
  // The usual port is taken: any other will do.
  if (error.code === 'EADDRINUSE') server.listen(0, '127.0.0.1');
  else throw error;
});
server.on('listening', () => {
  own = `http://127.0.0.1:${server.address().port}`;
  console.log(JSON.stringify({ address: `http://127.0.0.1:${server.address().port}/` }));
});
server.listen(Number(process.argv[2] ?? 4310), '127.0.0.1');
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => process.exit(0));

// A handler of web-standard requests, as edge hosts take it; served here by a few lines of node:http. Run: node fetch.mjs
import { createServer } from 'node:http';
import { Readable } from 'node:stream';
import { fetchHandler } from 'jexo';
import { apiary, port, say } from './apiary.mjs';

// Nothing is kept between requests: each may reach another machine.
const mcp = fetchHandler(apiary, { sessions: false });

/** What a host of functions calls: `export default { fetch }`. */
export const fetch = (request) =>
  new URL(request.url).pathname === '/mcp'
    ? mcp(request)
    : new Response('The cooperative’s own page', { headers: { 'content-type': 'text/plain' } });

const server = createServer(async (request, response) => {
  const { method, headers, url } = request;
  const body = method === 'POST' ? { body: Readable.toWeb(request), duplex: 'half' } : {};
  const answer = await fetch(new Request(`http://${headers.host}${url}`, { method, headers, ...body }));
  response.writeHead(answer.status, Object.fromEntries(answer.headers));
  if (answer.body === null) response.end();
  else Readable.fromWeb(answer.body).pipe(response);
}).listen(port, '127.0.0.1', () => say(server.address().port));

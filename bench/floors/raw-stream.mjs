// The floor for idle streams: a raw node:http server that holds event streams open and does nothing else.
import http from 'node:http';
const server = http.createServer((req, res) => {
  req.resume();
  if (req.method !== 'GET') return res.writeHead(200, { 'content-type': 'application/json', 'mcp-session-id': 'none' }).end('{}');
  res.writeHead(200, { 'content-type': 'text/event-stream' });
  res.flushHeaders();
});
server.listen(0, '127.0.0.1', () => process.send({ port: server.address().port }));
process.on('message', () => {
  globalThis.gc();
  const { heapUsed, external, rss } = process.memoryUsage();
  process.send({ bytes: heapUsed + external, rss });
});

// The floor: one node:http process that parses a JSON-RPC tools/call, runs the function and stringifies the answer. No checks, no sessions.
import http from 'node:http';
const port = Number(process.argv[2] ?? 4701);
http
  .createServer((req, res) => {
    const parts = [];
    req.on('data', (c) => parts.push(c));
    req.on('end', () => {
      const msg = JSON.parse(Buffer.concat(parts).toString());
      const { a, b } = msg.params.arguments;
      const body = JSON.stringify({
        jsonrpc: '2.0',
        id: msg.id,
        result: { content: [{ type: 'text', text: String(a + b) }], structuredContent: { sum: a + b } },
      });
      res.writeHead(200, { 'content-type': 'application/json', 'content-length': Buffer.byteLength(body) });
      res.end(body);
    });
  })
  .listen(port, '127.0.0.1');

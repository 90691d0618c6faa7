// The floor for stdio: one process that splits lines, parses a JSON-RPC tools/call, runs the function and writes the answer.
let rest = '';
process.stdin.setEncoding('utf8');
process.stdin.on('data', (chunk) => {
  rest += chunk;
  let out = '';
  for (let at; (at = rest.indexOf('\n')) >= 0; rest = rest.slice(at + 1)) {
    const msg = JSON.parse(rest.slice(0, at));
    if (msg.id === undefined) continue;
    const { a, b } = msg.params?.arguments ?? { a: 0, b: 0 };
    out +=
      JSON.stringify({
        jsonrpc: '2.0',
        id: msg.id,
        result: { content: [{ type: 'text', text: String(a + b) }], structuredContent: { sum: a + b } },
      }) + '\n';
  }
  if (out) process.stdout.write(out);
});
process.stdin.on('end', () => process.exit(0));

// A stand-in for a tunnel service, for demo and tests: it runs where others can reach it, and hands their connections to a laptop that has
// connected out. It knows one laptop, carries bytes as they are, and encrypts nothing by itself: put TLS in front of both ports.
//
//   TUNNEL_TOKEN=… node relay.mjs 4400 4401        public port, port for the laptop
import { createHash, timingSafeEqual } from 'node:crypto';
import { createServer } from 'node:net';

const [publicPort = '0', agentPort = '0'] = process.argv.slice(2);
const token = process.env.TUNNEL_TOKEN;
if (!token) {
  console.error('Set TUNNEL_TOKEN: the laptop proves by it that it may be reached here.');
  process.exit(2);
}
const host = process.env.TUNNEL_HOST ?? '127.0.0.1';
const digest = (text) => createHash('sha256').update(text).digest();
const wanted = digest(token);

/** Connections of the laptop that wait for somebody. */
const waiting = [];
/** People who wait for a connection of the laptop. */
const visitors = [];
const patienceMs = 5000;

const pair = (visitor, agent) => {
  agent.removeAllListeners('data');
  visitor.pipe(agent);
  agent.pipe(visitor);
  for (const [one, other] of [
    [visitor, agent],
    [agent, visitor],
  ])
    one.on('close', () => other.destroy());
};

const agents = createServer((socket) => {
  socket.on('error', () => socket.destroy());
  socket.setNoDelay(true);
  let said = '';
  const give = setTimeout(() => socket.destroy(), patienceMs);
  socket.on('data', (chunk) => {
    said += chunk;
    if (said.length > 1000) return socket.destroy();
    if (!said.includes('\n')) return;
    clearTimeout(give);
    if (!timingSafeEqual(digest(said.slice(0, said.indexOf('\n'))), wanted)) return socket.destroy();
    socket.removeAllListeners('data');
    socket.write('ok\n');
    const visitor = visitors.shift();
    if (visitor) return pair(visitor, socket);
    waiting.push(socket);
    socket.on('close', () => waiting.includes(socket) && waiting.splice(waiting.indexOf(socket), 1));
  });
});

const front = createServer({ pauseOnConnect: true }, (socket) => {
  socket.on('error', () => socket.destroy());
  socket.setNoDelay(true);
  const agent = waiting.shift();
  if (agent) return pair(socket, agent);
  visitors.push(socket);
  const leave = () => visitors.includes(socket) && visitors.splice(visitors.indexOf(socket), 1);
  socket.on('close', leave);
  setTimeout(
    () => leave() && socket.end('HTTP/1.1 503 Service Unavailable\r\nRetry-After: 5\r\nContent-Length: 0\r\nConnection: close\r\n\r\n'),
    patienceMs,
  ).unref();
});

agents.listen(Number(agentPort), host, () =>
  front.listen(Number(publicPort), host, () =>
    console.log(JSON.stringify({ public: `http://${host}:${front.address().port}`, agents: agents.address().port })),
  ),
);

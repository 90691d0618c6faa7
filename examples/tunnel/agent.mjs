// The laptop's end of the stand-in tunnel: it connects out, and hands what comes to a server here.
//
//   TUNNEL_TOKEN=… node agent.mjs relay.example:4401 127.0.0.1:4300
import { connect } from 'node:net';

const [relay, server] = process.argv.slice(2).map((each) => each.split(':'));
const token = process.env.TUNNEL_TOKEN;
if (!token || !relay?.[1] || !server?.[1]) {
  console.error('As in: TUNNEL_TOKEN=… node agent.mjs relay.example:4401 127.0.0.1:4300');
  process.exit(2);
}
/** Connections that wait at the relay, so that nobody waits for one to be made. */
const idle = 8;
let open = 0;
let pauseMs = 100;
let isTold = false;

function wait() {
  open++;
  const out = connect({ host: relay[0], port: Number(relay[1]) }, () => out.write(`${token}\n`));
  out.setNoDelay(true);
  out.setKeepAlive(true, 10_000);
  let isUsed = false;
  let greeting = '';
  out.on('error', (error) => {
    if (!isTold) console.error(`The relay cannot be reached: ${error.message}. Trying again.`);
    isTold = true;
  });
  const greet = (chunk) => {
    greeting += chunk.toString('latin1');
    const end = greeting.indexOf('\n');
    if (end < 0) return;
    out.off('data', greet);
    pauseMs = 100;
    isTold = false;
    if (greeting.length > end + 1) use(Buffer.from(greeting.slice(end + 1), 'latin1'));
    else out.once('data', use);
  };
  /** Somebody is there: another connection waits in this one's place. */
  const use = (first) => {
    isUsed = true;
    open--;
    wait();
    out.pause();
    const inner = connect({ host: server[0], port: Number(server[1]) }, () => {
      inner.write(first);
      out.pipe(inner);
      inner.pipe(out);
    });
    inner.setNoDelay(true);
    inner.on('error', () => out.destroy());
    inner.on('close', () => out.destroy());
    out.on('close', () => inner.destroy());
  };
  out.on('data', greet);
  out.on('close', () => {
    if (isUsed) return;
    open--;
    setTimeout(() => open < idle && wait(), pauseMs);
    pauseMs = Math.min(2 * pauseMs, 5000);
  });
}
for (let count = 0; count < idle; count++) wait();
console.log(JSON.stringify({ tunnel: `${relay.join(':')} → ${server.join(':')}` }));

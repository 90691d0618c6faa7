// Two processes behind nginx, round robin, on one Redis: any of them answers any request of a session, and a deploy costs no call.
// Run: node run.mjs   (needs redis-server and nginx; --once calls, stops one process, calls on, and ends)
import { spawn } from 'node:child_process';
import { mkdtempSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { connect } from 'jexo';

const folder = mkdtempSync(join(tmpdir(), 'two-processes-'));
const cli = fileURLToPath(new URL('../../packages/jexo/bin/jexo.mjs', import.meta.url));
const counter = fileURLToPath(new URL('./counter.mjs', import.meta.url));
const freePort = () =>
  new Promise((resolve) => {
    const probe = createServer().listen(0, '127.0.0.1', () => {
      const { port } = probe.address();
      probe.close(() => resolve(port));
    });
  });
const children = [];
const start = (command, words, options = {}) => {
  const child = spawn(command, words, { stdio: 'ignore', ...options });
  child.on('error', (error) => {
    console.error(`${command} could not be started: ${error.message}`);
    stop(1);
  });
  children.push(child);
  return child;
};
function stop(code) {
  for (const child of children) child.kill();
  process.exit(code);
}
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => stop(0));

const [redisPort, nginxPort, ...ports] = [await freePort(), await freePort(), await freePort(), await freePort()];
start('redis-server', ['--port', redisPort, '--bind', '127.0.0.1', '--save', '', '--dir', folder].map(String));

async function serve(port, name) {
  const words = [counter, '--http', port, '--store', `redis://127.0.0.1:${redisPort}`, '--drain', '1', '--json'].map(String);
  const child = start(process.execPath, [cli, 'serve', ...words], {
    stdio: ['ignore', 'ignore', 'pipe'],
    env: { ...process.env, PROCESS_NAME: name },
  });
  for await (const line of createInterface({ input: child.stderr })) if (line.startsWith('{')) break;
  child.stderr.resume();
  return child;
}
const [one] = [await serve(ports[0], 'one'), await serve(ports[1], 'two')];

const places = ['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'].map((each) => `${each}_temp_path ${folder}/${each};`).join(' ');
writeFileSync(
  join(folder, 'nginx.conf'),
  `worker_processes 1; pid ${folder}/nginx.pid; error_log ${folder}/error.log; events {} http { access_log off; ${places}
  upstream counter { ${ports.map((port) => `server 127.0.0.1:${port} max_fails=0;`).join(' ')} keepalive 16; }
  server { listen 127.0.0.1:${nginxPort}; location / { proxy_pass http://counter; proxy_http_version 1.1; proxy_set_header Connection "";
    proxy_set_header Host $http_host; proxy_buffering off; proxy_next_upstream error timeout http_503 non_idempotent; } } }`,
);
start('nginx', ['-p', folder, '-c', join(folder, 'nginx.conf'), '-g', 'daemon off;']);

const address = `http://127.0.0.1:${nginxPort}/mcp`;
const open = async () => {
  for (let tries = 0; ; tries++)
    try {
      return await connect(address);
    } catch (error) {
      if (tries > 40) throw error;
      await new Promise((resolve) => setTimeout(resolve, 100)); // nginx is not there yet
    }
};
const client = await open();
const call = async () => console.log((await client.call('count')).content[0].text);
for (let count = 0; count < 4; count++) await call();
if (process.argv.includes('--once')) {
  console.log('Process one is stopped.');
  const gone = new Promise((resolve) => one.once('close', resolve));
  one.kill('SIGTERM');
  for (let count = 0; count < 4; count++) await call();
  await gone;
  await client.close();
  stop(0);
}
console.log(`It goes on at ${address}. Try: jexo call ${address} count   (stop with Ctrl-C)`);

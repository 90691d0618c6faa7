// Validated calls a second over stdio, 64 in flight, as a ratio to a raw stdio loop in the same run.
import { spawn } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { median, processorMs } from './measure.mjs';

const here = (path) => fileURLToPath(new URL(path, import.meta.url));

const warm = 5000;
const inFlight = 64;

/**
 * Keeps 64 calls in flight until `total` are answered; gives calls a second and the microseconds of processor time the server took for each. The driver must be faster than what it
 * drives: calls are written beforehand and sent as slices, answers are only counted, by their line ends. The first
 * answers are read, to see that they are right.
 */
function drive(file, total) {
  const calls = Array.from(
    { length: warm + total },
    (_, index) => `{"jsonrpc":"2.0","id":${index + 1},"method":"tools/call","params":{"name":"add","arguments":{"a":2,"b":40}}}\n`,
  );
  const ends = [0];
  for (const call of calls) ends.push(ends.at(-1) + call.length);
  const text = Buffer.from(calls.join(''));
  return new Promise((resolve, reject) => {
    const child = spawn(process.execPath, [here(file)], { stdio: ['pipe', 'pipe', 'inherit'] });
    let sent = 0;
    let answered = -1; // the answer to initialize is not counted
    let start = 0;
    let cpuBefore = 0;
    const sendMore = (count) => {
      const next = Math.min(sent + count, calls.length);
      if (next > sent) child.stdin.write(text.subarray(ends[sent], ends[next]));
      sent = next;
    };
    child.stdout.on('data', (chunk) => {
      const before = answered;
      for (let at = chunk.indexOf(10); at >= 0; at = chunk.indexOf(10, at + 1)) answered++;
      if (before > 0 && before < 500 && !chunk.includes('"sum":42')) return reject(new Error(`Not an answer: ${chunk}`));
      if (before < 0) {
        child.stdin.write('{"jsonrpc":"2.0","method":"notifications/initialized"}\n');
        return sendMore(inFlight);
      }
      if (before < warm && answered >= warm) {
        start = performance.now();
        cpuBefore = processorMs(child.pid);
      }
      if (answered >= calls.length) {
        resolve({ rate: (1000 * total) / (performance.now() - start), cpu: (1e3 * (processorMs(child.pid) - cpuBefore)) / total });
        return child.kill();
      }
      sendMore(answered - before);
    });
    child.stdin.write(
      `${JSON.stringify({ jsonrpc: '2.0', id: 'hello', method: 'initialize', params: { protocolVersion: '2025-06-18', capabilities: {}, clientInfo: { name: 'bench', version: '1' } } })}\n`,
    );
  });
}

export async function stdio({ total = 200_000, rounds = 5 } = {}) {
  const files = { floor: 'floors/raw-stdio.mjs', jexo: 'servers/stdio.mjs' };
  const found = { floor: [], jexo: [] };
  for (let round = 0; round < rounds; round++) for (const [name, file] of Object.entries(files)) found[name].push(await drive(file, total));
  const of = (name, key) => median(found[name].map((each) => each[key]));
  const [floor, jexo] = [of('floor', 'rate'), of('jexo', 'rate')];
  return { floor, jexo, ratio: jexo / floor, floorCpu: of('floor', 'cpu'), jexoCpu: of('jexo', 'cpu') };
}

if (process.argv[1] === fileURLToPath(import.meta.url)) console.log(await stdio());

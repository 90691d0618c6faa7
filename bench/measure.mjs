// What all measurements share: rounds in turn against the floor, so that a noisy machine is noisy for both.
import { spawn, spawnSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { connect } from 'node:net';

export const median = (values) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)];
export const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

/** Runs `measure` for each candidate in turn, `rounds` times, and gives the median of each. */
export async function inTurn(candidates, rounds, measure) {
  const found = Object.fromEntries(Object.keys(candidates).map((name) => [name, []]));
  for (let round = 0; round < rounds; round++)
    for (const [name, candidate] of Object.entries(candidates)) found[name].push(await measure(candidate));
  return Object.fromEntries(Object.entries(found).map(([name, values]) => [name, median(values)]));
}

export function startServer(args, options = {}) {
  return spawn(process.execPath, args, { stdio: ['ignore', 'ignore', 'inherit'], ...options });
}

export async function untilListening(port) {
  for (let attempt = 0; attempt < 200; attempt++) {
    const socket = connect(port, '127.0.0.1');
    const open = await new Promise((resolve) => socket.once('connect', () => resolve(true)).once('error', () => resolve(false)));
    socket.destroy();
    if (open) return;
    await pause(25);
  }
  throw new Error(`Nothing listens at ${port}.`);
}

/** Processor time a process has used, in milliseconds (Linux). */
export function processorMs(pid) {
  const fields = readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1].split(' ');
  return (Number(fields[11]) + Number(fields[12])) * 10;
}

export function requireCommand(name) {
  if (spawnSync('which', [name]).status !== 0)
    throw new Error(`This measurement needs ${name}; install it with your system's package manager.`);
}

export function table(headings, rows) {
  return [
    `| ${headings.join(' | ')} |`,
    `| ${headings.map(() => '---').join(' | ')} |`,
    ...rows.map((row) => `| ${row.join(' | ')} |`),
  ].join('\n');
}

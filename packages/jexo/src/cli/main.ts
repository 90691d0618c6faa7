#!/usr/bin/env node
import { commands } from './commands/index.js';
import { runCli } from './run-cli.js';
import { flushed } from './terminal.js';

// A reader that stops early, as `head` does, is no error; nor is a terminal that is gone.
process.stdout.on('error', () => process.exit(0));
process.stderr.on('error', () => undefined);
// A call in this same process may wait for nothing that keeps a process alive; it is awaited all the same.
const alive = setInterval(() => {}, 2 ** 30);
process.exitCode = await runCli(process.argv.slice(2), { commands });
clearInterval(alive);
// Timers and connections that a module left behind would keep the process for ever.
await flushed();
process.exit();

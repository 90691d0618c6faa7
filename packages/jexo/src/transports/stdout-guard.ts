import childProcess from 'node:child_process';
import fs from 'node:fs';
import { syncBuiltinESMExports } from 'node:module';

// eslint-disable-next-line @typescript-eslint/no-explicit-any -- the guard wraps functions of any signature
type AnyFunction = (...args: any[]) => any;

export interface StdoutGuard {
  /** Writes to the real stdout. */
  write(text: string | Uint8Array, written?: () => void): boolean;
  /** Puts everything back. */
  release(): void;
}

/**
 * Keeps stdout for the protocol (Transports, "stdio": nothing but messages may be written there). Whatever the user's
 * code prints, by console, by process.stdout, by file descriptor 1 or through a child that inherits it, goes to stderr.
 */
export function guardStdout(onStray: () => void): StdoutGuard {
  const undo: (() => void)[] = [];
  let told = false;
  const stray = () => {
    if (told) return;
    told = true;
    onStray();
  };
  const replace = (owner: object, name: string, make: (original: AnyFunction) => AnyFunction) => {
    const holder = owner as Record<string, AnyFunction>;
    const original = holder[name]!;
    holder[name] = make(original);
    undo.push(() => (holder[name] = original));
  };

  const real = process.stdout.write.bind(process.stdout);
  replace(process.stdout, 'write', () => (...args) => {
    // An empty write only waits until everything before it has left.
    if (args[0] !== '') stray();
    return (process.stderr.write as AnyFunction)(...args);
  });
  const toStderr = (fd: unknown) => {
    if (fd !== 1) return fd;
    stray();
    return 2;
  };
  for (const name of ['write', 'writeSync', 'writev', 'writevSync', 'writeFile', 'writeFileSync', 'appendFile', 'appendFileSync']) {
    replace(
      fs,
      name,
      (original) =>
        (fd, ...rest) =>
          original(toStderr(fd), ...rest),
    );
  }

  /** The stdout entry of a child's stdio option, turned to stderr when it would be ours. */
  const redirected = (stdio: unknown): unknown => {
    const own = (entry: unknown, index: number) => (entry === 'inherit' && index === 1) || entry === 1 || entry === process.stdout;
    if (stdio === 'inherit') return redirected(['inherit', 'inherit', 'inherit']);
    if (!Array.isArray(stdio)) return stdio;
    return stdio.map((entry: unknown, index) => {
      if (!own(entry, index)) return entry;
      stray();
      return 2;
    });
  };
  const withOptions = (args: unknown[]): unknown[] =>
    args.map((arg) => (isOptions(arg) && arg.stdio !== undefined ? { ...arg, stdio: redirected(arg.stdio) } : arg));
  for (const name of ['spawn', 'spawnSync', 'execSync', 'execFileSync']) {
    replace(
      childProcess,
      name,
      (original) =>
        (...args) =>
          original(...withOptions(args)),
    );
  }
  // A forked child inherits stdout unless it is told to be silent.
  replace(childProcess, 'fork', (original) => (file, ...rest) => {
    const given = rest.findLast(isOptions) ?? {};
    const stdio = given.stdio ?? (given.silent ? undefined : ['inherit', 2, 'inherit', 'ipc']);
    const args = rest.filter((arg) => !isOptions(arg));
    return original(file, ...args, stdio === undefined ? given : { ...given, stdio: redirected(stdio) });
  });
  syncBuiltinESMExports();

  return {
    write: (text, written) => real(text, written),
    release() {
      for (const step of undo.reverse()) step();
      syncBuiltinESMExports();
    },
  };
}

function isOptions(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

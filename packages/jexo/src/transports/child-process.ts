import { spawnSync, type ChildProcess } from 'node:child_process';
import spawn from 'cross-spawn';
import { JexoError } from '../errors.js';
import { LineReader } from './lines.js';

/** A command that starts a server. */
export interface CommandTarget {
  /** A program, looked for along the PATH. */
  readonly command: string;
  /** Its arguments. */
  readonly args: readonly string[];
  /** Added to what is inherited. */
  readonly env?: Readonly<Record<string, string>>;
  /** What it inherits of this process's environment: a short list that no secret is on, or all of it. Default `safe`. */
  readonly inherit?: 'safe' | 'all';
  /** The folder it runs in. Default: that of this process. */
  readonly cwd?: string;
  /** The environment is `env` and nothing else. */
  readonly onlyEnv?: boolean;
}

export interface ChildEvents {
  onLine(line: string): void;
  onTooLong(length: number): void;
  onStderr(line: string): void;
}

/** A server's process, with what became of it. */
export interface Child {
  write(text: string): void;
  /** Bytes that were written and that the process has not read yet, as far as they wait here. */
  unread(): number;
  /** Resolves with the reason it ended for, once it and its output have. */
  readonly ended: Promise<JexoError>;
  /** Lifecycle, "Shutdown": close stdin, wait, SIGTERM, wait, SIGKILL; then whatever it has left behind. */
  stop(patienceMs: number): Promise<void>;
}

const onWindows = process.platform === 'win32';
const running = new Set<ChildProcess>();
let guarding = false;

/** Variables that programs need to run, and that hold no secrets. */
const safeNames =
  /^(?:PATH|HOME|USER|LOGNAME|SHELL|LANG|LANGUAGE|LC_[A-Z]+|TERM|COLORTERM|NO_COLOR|FORCE_COLOR|COLUMNS|TZ|TMPDIR|TEMP|TMP|XDG_[A-Z_]+|DISPLAY|NODE_EXTRA_CA_CERTS|SSL_CERT_(?:FILE|DIR)|PWD|JEXO_CACHE|PATHEXT|COMSPEC|SYSTEMROOT|SYSTEMDRIVE|WINDIR|USERPROFILE|HOMEDRIVE|HOMEPATH|APPDATA|LOCALAPPDATA|PROGRAMDATA|PROGRAMFILES(?:\(X86\))?|NUMBER_OF_PROCESSORS|PROCESSOR_ARCHITECTURE|OS)$/i;

function environmentOf({ env, onlyEnv, inherit = 'safe' }: CommandTarget): NodeJS.ProcessEnv {
  if (onlyEnv) return { ...env };
  const own = inherit === 'all' ? process.env : Object.fromEntries(Object.entries(process.env).filter(([name]) => safeNames.test(name)));
  return { ...own, ...env };
}

/** Ends a child and all that it has started. */
function killTree(child: ChildProcess, signal: NodeJS.Signals): void {
  if (child.pid === undefined) return;
  if (onWindows) {
    spawnSync('taskkill', ['/pid', String(child.pid), '/t', '/f'], { stdio: 'ignore' });
    return;
  }
  try {
    process.kill(-child.pid, signal);
  } catch {
    // The whole group is gone already.
  }
}

/**
 * Starts a server. On Windows scripts such as `npx` are found and quoted as the shell would.
 * @throws JexoError JEXO_COMMAND_MISSING, JEXO_CONNECT
 */
export async function startChild(target: CommandTarget, maxLength: number, events: ChildEvents): Promise<Child> {
  const where = [target.command, ...target.args].join(' ');
  const lastWords: string[] = [];
  const child = spawn(target.command, [...target.args], {
    stdio: ['pipe', 'pipe', 'pipe'],
    env: environmentOf(target),
    windowsHide: true,
    // A group of its own, so that its children end with it.
    detached: !onWindows,
    ...(target.cwd !== undefined && { cwd: target.cwd }),
  });
  running.add(child);
  if (!guarding) process.once('exit', () => running.forEach((each) => killTree(each, 'SIGKILL')));
  guarding = true;
  const ended = new Promise<JexoError>((resolve) => {
    child.once('error', () => running.delete(child));
    child.once('close', (code, signal) => {
      running.delete(child);
      const how = signal === null ? `with exit code ${code}` : `by ${signal}`;
      const words = lastWords.length > 0 ? `\nIts last lines were:\n${lastWords.map((line) => `  ${line}`).join('\n')}` : '';
      resolve(new JexoError('JEXO_SERVER_EXITED', `The server ended ${how}.${words}`, { where }));
    });
  });
  const onErrorLine = (line: string) => {
    lastWords.push(line);
    if (lastWords.length > 10) lastWords.shift();
    events.onStderr(line);
  };
  const errors = new LineReader(64 * 1024, onErrorLine, () => undefined);
  const lines = new LineReader(maxLength, events.onLine, events.onTooLong);
  child.stdout!.on('data', (chunk: Buffer) => lines.push(chunk)).on('end', () => lines.end());
  child.stderr!.on('data', (chunk: Buffer) => errors.push(chunk)).on('end', () => errors.end());
  // A broken pipe only says that the child is gone; its close event says why.
  child.stdin!.on('error', () => undefined);
  await new Promise<void>((resolve, reject) => {
    child.once('spawn', resolve);
    child.once('error', (error: NodeJS.ErrnoException) => {
      const why = error.code === 'ENOENT' ? 'there is no such command' : error.code === 'EACCES' ? 'it may not be executed' : undefined;
      const account = why === undefined ? error.message : `${why}. PATH was ${environmentOf(target).PATH}`;
      reject(
        new JexoError(
          why === undefined ? 'JEXO_CONNECT' : 'JEXO_COMMAND_MISSING',
          `The command ${target.command} could not be started: ${account}.`,
          { where, cause: error },
        ),
      );
    });
  });
  return {
    write: (text) => void child.stdin!.write(text),
    unread: () => child.stdin!.writableLength,
    ended,
    async stop(patienceMs) {
      child.stdin!.end();
      for (const signal of ['SIGTERM', 'SIGKILL'] as const) {
        let timer: NodeJS.Timeout | undefined;
        const patience = new Promise<'late'>((resolve) => (timer = setTimeout(() => resolve('late'), patienceMs)));
        const outcome = await Promise.race([ended, patience]);
        clearTimeout(timer);
        if (outcome !== 'late') break;
        killTree(child, signal);
      }
      killTree(child, 'SIGKILL');
      await ended;
    },
  };
}

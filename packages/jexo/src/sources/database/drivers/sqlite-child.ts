import { spawn, type ChildProcess } from 'node:child_process';
import { JexoError } from '../../../errors.js';

/** What the child is asked, and what it answers. Values cross as they are: big integers and bytes too. */
interface Asked {
  readonly sql: string;
  readonly values: readonly unknown[];
  readonly skip: number;
  readonly maxRows: number;
}
export interface Found {
  readonly columns: readonly {
    readonly name: string;
    readonly type: string | null;
    readonly table: string | null;
    readonly column: string | null;
  }[];
  readonly rows: readonly (readonly unknown[])[];
}
type Said = { readonly ready: true } | { readonly found: Found } | { readonly error: string };

/** A process that reads one file of SQLite, and can be killed in the middle of it. */
export interface SqliteChild {
  run(asked: Asked, timeoutMs: number, signal: AbortSignal): Promise<Found>;
  readonly isAlive: boolean;
  close(): void;
}

/** The parts of the synchronous driver that are used there. */
interface SyncStatement {
  raw(on: boolean): SyncStatement;
  safeIntegers(on: boolean): SyncStatement;
  columns(): Found['columns'];
  iterate(...values: readonly unknown[]): Iterable<unknown[]>;
}
interface SyncDatabase {
  exec(sql: string): void;
  prepare(sql: string): SyncStatement;
}

/** Runs in the child. It stands by itself: its text is handed to Node. */
async function childMain(): Promise<void> {
  const [driver = '', file = '', heap = ''] = process.argv.slice(1);
  const { default: Database } = (await import(driver)) as { default: new (file: string) => SyncDatabase };
  const database = new Database(file);
  database.exec(`pragma query_only = 1; pragma temp_store = 2; pragma hard_heap_limit = ${heap}; pragma trusted_schema = 0`);
  process.on('message', ({ sql, values, skip, maxRows }: Asked) => {
    try {
      const statement = database.prepare(sql).raw(true).safeIntegers(true);
      const columns = statement.columns();
      const rows: unknown[][] = [];
      let passed = 0;
      for (const row of statement.iterate(...values)) {
        if (passed++ < skip) continue;
        rows.push(row);
        if (rows.length > maxRows) break;
      }
      process.send!({ found: { columns, rows } } satisfies Said);
    } catch (error) {
      process.send!({ error: error instanceof Error ? error.message : String(error) } satisfies Said);
    }
  });
  process.once('disconnect', () => process.exit(0));
  process.send!({ ready: true } satisfies Said);
}

/**
 * Starts one. `heapBytes` is the most that SQLite may allocate there.
 * @throws JexoError JEXO_DATABASE
 */
export async function startSqliteChild(driver: string, file: string, heapBytes: number): Promise<SqliteChild> {
  const child = spawn(
    process.execPath,
    ['--max-old-space-size=256', '--input-type=module', '-e', `await (${String(childMain)})()`, driver, file, String(heapBytes)],
    { stdio: ['ignore', 'ignore', 'pipe', 'ipc'], serialization: 'advanced', env: {} },
  );
  let stderr = '';
  child.stderr!.on('data', (chunk: Buffer) => (stderr = (stderr + chunk.toString()).slice(-2000)));
  const next = nextOf(child, () => stderr);
  const first = await next(10_000, new AbortController().signal);
  if ('error' in first) throw new JexoError('JEXO_DATABASE', `${file} could not be opened: ${first.error}`);
  // A warm child alone keeps no process alive.
  child.unref();
  child.channel?.unref();
  (child.stderr as unknown as { unref(): void }).unref();
  return {
    get isAlive() {
      return !child.killed && child.exitCode === null && child.signalCode === null && child.connected;
    },
    async run(asked, timeoutMs, signal) {
      child.channel?.ref();
      try {
        child.send(asked);
        const said = await next(timeoutMs, signal);
        // What the message means is for the driver to say, as for a statement in this process.
        if ('error' in said) throw new Error(said.error);
        return (said as { found: Found }).found;
      } finally {
        child.channel?.unref();
      }
    },
    close: () => void child.kill('SIGKILL'),
  };
}

/** The next message of a child; a child that does not answer in time is killed. */
function nextOf(child: ChildProcess, stderr: () => string) {
  return (timeoutMs: number, signal: AbortSignal): Promise<Said> =>
    new Promise((resolve, reject) => {
      const done = (act: () => void) => {
        clearTimeout(timer);
        signal.removeEventListener('abort', onAbort);
        child.off('message', onMessage);
        child.off('exit', onExit);
        child.off('error', onExit);
        act();
      };
      const onMessage = (said: unknown) => done(() => resolve(said as Said));
      const onExit = () =>
        done(() =>
          reject(
            new JexoError(
              'JEXO_DATABASE',
              `The process that reads the database ended: ${stderr().trim().split('\n').at(-1) || 'it was killed'}.`,
            ),
          ),
        );
      const onAbort = () =>
        done(() => {
          child.kill('SIGKILL');
          reject(signal.reason as Error);
        });
      const timer = setTimeout(
        () =>
          done(() => {
            child.kill('SIGKILL');
            reject(tooSlow(timeoutMs));
          }),
        timeoutMs,
      );
      child.on('message', onMessage);
      child.once('exit', onExit);
      child.once('error', onExit);
      signal.addEventListener('abort', onAbort, { once: true });
    });
}

/** The error for a statement that ran too long. */
export function tooSlow(timeoutMs: number): JexoError {
  return new JexoError('JEXO_SQL', `The statement was stopped: it ran longer than ${timeoutMs / 1000} s.`, {
    next: 'Narrow it: filter by a key or an index, or aggregate less at once. With explain it shows its plan.',
  });
}

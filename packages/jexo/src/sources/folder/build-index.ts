import { setImmediate } from 'node:timers/promises';
import { messageOf } from '../../errors.js';
import { pause } from '../../engine/pause.js';
import { IndexBusy, IndexLost } from './disk-index.js';
import { isDocument, stampOf, type ReadDocument } from './documents.js';
import type { FolderIndex, IndexedDocument } from './folder-index.js';
import type { FolderFile } from './scan-folder.js';

/** Turns texts into vectors, one for each, all of the same length. */
export type Embed = (
  texts: readonly string[],
  signal?: AbortSignal,
) => Promise<readonly ArrayLike<number>[]> | readonly ArrayLike<number>[];

/** How far the building of an index is. */
export interface IndexProgress {
  readonly doing: 'documents' | 'vectors' | 'nothing';
  readonly done: number;
  readonly total: number;
}

/** What an index is built of. */
export interface BuildOptions {
  /** Opens the index; it is called again when it was lost. */
  open(): Promise<FolderIndex>;
  /** Throws a damaged index away; returns false where that is not ours to do. */
  discard(): void;
  load(file: FolderFile): Promise<ReadDocument | undefined>;
  readonly embed?: Embed;
  /** Called when a run is over. */
  onDone(): void;
}

/** Builds an index in the background, a portion at a time, and takes up what has changed. */
export interface IndexBuilder {
  /** Takes these files as what the folder holds now. */
  update(files: readonly FolderFile[]): void;
  /** The index, once it is open. @throws when it cannot be opened */
  index(): Promise<FolderIndex>;
  /** Waits until every document is in the index, but no longer than `ms`. */
  settled(ms: number, signal?: AbortSignal, onProgress?: (progress: IndexProgress) => void): Promise<void>;
  /** The index turned out to be damaged: it is built again. */
  lost(why: string): void;
  readonly progress: IndexProgress;
  /** What went wrong, as sentences: a damaged index that is built again, a full disk, a model that fails. */
  readonly faults: readonly string[];
  close(): Promise<void>;
}

/** Documents that are taken in between two looks at the event loop. */
const portionDocuments = 16;
const embeddedAtOnce = 32;
/** Waiting for another process that writes. */
const busyMs = 25;
const retryMs = 30_000;
const mostLosses = 3;

// eslint-disable-next-line max-lines-per-function -- the steps share the run's state
export function indexBuilder({ open, discard, load, embed, onDone }: BuildOptions): IndexBuilder {
  let opening: Promise<FolderIndex> | undefined;
  let files: readonly FolderFile[] = [];
  let progress: IndexProgress = { doing: 'nothing', done: 0, total: 0 };
  let faults = new Map<string, string>();
  /** Documents without a text that can be read: they are not tried again until they change. */
  const unreadable = new Map<string, { readonly stamp: string; readonly why: string }>();
  let controller = new AbortController();
  let running: Promise<void> = Promise.resolve();
  let failedAt: number | undefined;
  const watchers = new Set<() => void>();
  const say = (next: IndexProgress) => {
    progress = next;
    for (const each of watchers) each();
  };
  const index = () => {
    if (opening === undefined) {
      const made = open();
      opening = made;
      // The next attempt opens it again.
      made.catch(() => opening === made && (opening = undefined));
    }
    return opening;
  };
  /** Does what another process may hold up. */
  const whenFree = async (work: () => void, signal: AbortSignal): Promise<void> => {
    for (;;) {
      signal.throwIfAborted();
      try {
        work();
        return;
      } catch (error) {
        if (!(error instanceof IndexBusy)) throw error;
        await pause(busyMs * (1 + Math.random()), signal);
      }
    }
  };
  const documents = async (to: FolderIndex, signal: AbortSignal) => {
    const wanted = files.filter(isDocument);
    const paths = new Set(wanted.map(({ path }) => path));
    const known = to.stamps();
    const gone = [...known.keys()].filter((path) => !paths.has(path));
    if (gone.length > 0) await whenFree(() => to.remove(gone), signal);
    for (const path of unreadable.keys()) if (!paths.has(path)) unreadable.delete(path);
    const isSettled = (file: FolderFile) => [known.get(file.path), unreadable.get(file.path)?.stamp].includes(stampOf(file));
    const changed = wanted.filter((file) => !isSettled(file));
    say({ doing: 'documents', done: 0, total: changed.length });
    for (let at = 0; at < changed.length; at += portionDocuments) {
      const portion = changed.slice(at, at + portionDocuments);
      // Reading waits for the disk: a portion is read side by side, and then taken in at once.
      const found = await Promise.all(portion.map(async (file) => ({ file, read: await load(file) })));
      const taken: IndexedDocument[] = [];
      for (const { file, read } of found) {
        unreadable.delete(file.path);
        if (read?.fault !== undefined) {
          unreadable.set(file.path, { stamp: stampOf(file), why: read.fault });
          if (known.has(file.path)) await whenFree(() => to.remove([file.path]), signal);
        } else if (read !== undefined) taken.push(read.document);
      }
      await whenFree(() => to.put(taken), signal);
      say({ doing: 'documents', done: Math.min(changed.length, at + portionDocuments), total: changed.length });
      await setImmediate();
    }
    const unread = [...unreadable].map(([path, { why }]) => `${path} (${why})`);
    if (unread.length > 0)
      faults.set(
        'unread',
        `Documents that are not searched: ${unread.slice(0, 3).join('; ')}${unread.length > 3 ? `; and ${unread.length - 3} more` : ''}.`,
      );
  };
  const vectors = async (to: FolderIndex, signal: AbortSignal, make: Embed) => {
    const { sections, embedded } = to.counts();
    for (let done = 0; ; done += embeddedAtOnce) {
      say({ doing: 'vectors', done: Math.min(sections, embedded + done), total: sections });
      const next = to.unembedded(embeddedAtOnce);
      if (next.length === 0) return;
      const made = await make(
        next.map(({ text }) => text),
        signal,
      );
      signal.throwIfAborted();
      checkVectors(made, next.length);
      await whenFree(() => to.keepVectors(next.map(({ hash }, at) => ({ hash, vector: Float32Array.from(made[at]!) }))), signal);
      await setImmediate();
    }
  };
  const run = async (signal: AbortSignal): Promise<void> => {
    for (let losses = 0; ; losses++) {
      try {
        const to = await index();
        await documents(to, signal);
        if (embed) await vectors(to, signal, embed);
        faults.delete('failed');
        failedAt = undefined;
        return;
      } catch (error) {
        if (signal.aborted) return;
        if (error instanceof IndexBusy) {
          await pause(busyMs, signal).catch(() => undefined);
          losses -= 1;
          continue;
        }
        if (error instanceof IndexLost && losses < mostLosses) {
          await throwAway(messageOf(error));
          continue;
        }
        failedAt = Date.now();
        faults.set('failed', `The index is not complete: ${messageOf(error)}.`);
        return;
      }
    }
  };
  const throwAway = async (why: string) => {
    faults.set('lost', `The index was damaged (${why}), and is built again.`);
    const before = opening;
    opening = undefined;
    await before?.then(
      (each) => each.close(),
      () => undefined,
    );
    discard();
  };
  const start = () => {
    controller.abort();
    controller = new AbortController();
    const { signal } = controller;
    const before = running;
    say({ doing: 'documents', done: 0, total: 0 });
    running = before
      .then(() => (signal.aborted ? undefined : run(signal)))
      .finally(() => {
        if (signal.aborted) return;
        say({ doing: 'nothing', done: 0, total: 0 });
        onDone();
      });
  };
  return {
    update(now) {
      files = now;
      faults = new Map();
      start();
    },
    index,
    async settled(ms, signal, onProgress) {
      if (failedAt !== undefined && Date.now() - failedAt > retryMs) {
        failedAt = undefined;
        start();
      }
      const isOver = () => progress.doing !== 'documents';
      if (isOver() || ms <= 0) return;
      await new Promise<void>((resolve) => {
        const end = () => {
          clearTimeout(timer);
          watchers.delete(look);
          signal?.removeEventListener('abort', end);
          resolve();
        };
        const look = () => {
          if (isOver()) end();
          else onProgress?.(progress);
        };
        const timer = setTimeout(end, ms);
        watchers.add(look);
        signal?.addEventListener('abort', end);
      });
      signal?.throwIfAborted();
    },
    lost(why) {
      say({ doing: 'documents', done: 0, total: 0 });
      void throwAway(why).then(start);
    },
    get progress() {
      return progress;
    },
    get faults() {
      return [...faults.values()];
    },
    async close() {
      controller.abort();
      await running;
      const before = opening;
      opening = undefined;
      await before?.then(
        (each) => each.close(),
        () => undefined,
      );
    },
  };
}

/** @throws Error for vectors that cannot be compared */
export function checkVectors(made: readonly ArrayLike<number>[], wanted: number): void {
  if (!Array.isArray(made) || made.length !== wanted)
    throw new Error(`embed gave ${Array.isArray(made) ? made.length : 'no'} vectors for ${wanted} texts`);
  const size = made[0]?.length ?? 0;
  if (size === 0 || made.some((each) => each.length !== size || Array.from(each).some((value) => !Number.isFinite(value))))
    throw new Error('embed must give vectors of one length, with finite numbers');
}

import { watch, type FSWatcher } from 'node:fs';
import { basename, dirname } from 'node:path';
import { defineServer, type Server } from '../offers/define-server.js';
import type { Catalogue } from '../offers/catalogue.js';
import { openTargets, type OpenOptions } from './open-targets.js';
import type { ServeDefaults } from '../plans/serve-settings.js';
import type { Target } from './target-kind.js';

/** What became of one change. */
export type Reloaded =
  | {
      readonly ok: true;
      readonly ms: number;
      readonly added: readonly string[];
      readonly removed: readonly string[];
      readonly catalogue: Catalogue;
    }
  /** The last good version goes on. */
  | { readonly ok: false; readonly error: unknown };

export interface WatchedTargets {
  readonly server: Server;
  /** How the targets want to be served. */
  readonly serve?: ServeDefaults;
  /** Stops watching; the server is closed by whoever serves it. */
  close(): void;
}

/** Editors write a file in several steps; what they do within this many milliseconds is one change. */
const settleMs = 15;

/**
 * Opens targets and reads them again whenever a file they are made of is saved. Sessions live on; a save that cannot be
 * loaded changes nothing but what is told.
 */
export async function watchTargets(
  targets: readonly Target[],
  options: OpenOptions & { readonly onReload: (reloaded: Reloaded) => void },
): Promise<WatchedTargets> {
  const opened = await openTargets(targets, { ...options, again: true });
  // What is offered may come to be of any kind, and clients can only be notified about kinds that were declared.
  const server = defineServer({ ...opened.server.definition, changes: true });
  const first = await server.reload(opened.server);
  const watchers = new Map<string, FSWatcher>();
  let names: ReadonlySet<string> = new Set();
  /** A file that is new is a part of it perhaps: a save that could not be loaded may have begun to import it. */
  const isSource = (name: string) => names.has(name) || /\.(?:[cm]?[jt]sx?|json)$/.test(name);
  let timer: NodeJS.Timeout | undefined;
  let reading: Promise<void> | undefined;
  let again = false;

  const follow = (loaded: readonly string[], { files: read }: Catalogue) => {
    // What is only a type is in no module that is loaded, but among the files that its source has read.
    const files = [...loaded, ...read];
    names = new Set(files.map((file) => basename(file)));
    const folders = new Set(files.map((file) => dirname(file)).filter((folder) => !/[\\/]node_modules([\\/]|$)/.test(folder)));
    for (const [folder, watcher] of watchers) {
      if (folders.has(folder)) continue;
      watcher.close();
      watchers.delete(folder);
    }
    for (const folder of folders) {
      if (watchers.has(folder)) continue;
      // A folder is watched, not a file: many editors write a new file and move it over the old one.
      const watcher = watch(folder, (_event, name) => (name === null || isSource(name) ? touched() : undefined));
      watcher.on('error', () => watchers.delete(folder)); // the folder is gone; the next save of another file finds out
      watchers.set(folder, watcher);
    }
  };
  const touched = () => {
    clearTimeout(timer);
    timer = setTimeout(() => {
      if (reading !== undefined) again = true;
      else reading = reload().finally(() => (reading = undefined));
    }, settleMs);
  };
  const reload = async (): Promise<void> => {
    do {
      again = false;
      const start = performance.now();
      try {
        const before = namesOf(await server.catalogue());
        const next = await openTargets(targets, { ...options, again: true });
        const catalogue = await server.reload(next.server).catch(async (error: unknown) => {
          await next.server.close();
          throw error;
        });
        follow(next.files, catalogue);
        const after = namesOf(catalogue);
        options.onReload({
          ok: true,
          ms: performance.now() - start,
          added: after.filter((name) => !before.includes(name)),
          removed: before.filter((name) => !after.includes(name)),
          catalogue,
        });
      } catch (error) {
        options.onReload({ ok: false, error });
      }
    } while (again);
  };
  follow(opened.files, first);
  return {
    server,
    ...(opened.serve && { serve: opened.serve }),
    close() {
      clearTimeout(timer);
      for (const watcher of watchers.values()) watcher.close();
    },
  };
}

function namesOf({ tools, resources, templates, prompts }: Catalogue): string[] {
  return [tools, resources, templates, prompts].flatMap((kind: ReadonlyMap<string, unknown>) => [...kind.keys()]);
}

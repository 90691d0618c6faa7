import { watch, type FSWatcher } from 'node:fs';

const settleMs = 30;

/** Calls `changed` when files of a folder were saved; returns how to stop. @param isOne which files count */
export function watchFolder(folder: string, changed: () => void, isOne: (name: string) => boolean): () => void {
  let timer: NodeJS.Timeout | undefined;
  let watcher: FSWatcher | undefined;
  try {
    watcher = watch(folder, (_event, name) => {
      if (name !== null && !isOne(name)) return;
      clearTimeout(timer);
      timer = setTimeout(changed, settleMs);
    });
    watcher.on('error', () => watcher?.close()); // the folder is gone; reading it says so
  } catch {
    // A folder that is not there is reported when it is read.
  }
  return () => {
    clearTimeout(timer);
    watcher?.close();
  };
}

import { watch as watchFile } from 'node:fs';
import { dirname, join } from 'node:path';

const settleMs = 50;

/** Calls `changed` after saves of any of the files. Editors replace files when they save, so it is their folders that are watched. */
export function watchFiles(paths: readonly string[], changed: () => void): () => void {
  let timer: NodeJS.Timeout | undefined;
  const soon = () => {
    clearTimeout(timer);
    timer = setTimeout(changed, settleMs);
  };
  const watchers = [...new Set(paths.map((path) => dirname(path)))].map((folder) => {
    const watcher = watchFile(folder, { persistent: false }, (_event, found) => {
      if (found === null || paths.includes(join(folder, found))) soon();
    });
    watcher.on('error', () => undefined); // the folder is gone: there is nothing to watch any more
    return watcher;
  });
  return () => {
    clearTimeout(timer);
    for (const watcher of watchers) watcher.close();
  };
}

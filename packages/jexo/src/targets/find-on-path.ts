import { accessSync, constants } from 'node:fs';
import { delimiter, join } from 'node:path';

const endings = process.platform === 'win32' ? ['.exe', '.cmd', '.bat', ''] : [''];

/** The file a command names, looked for along a PATH; undefined when there is none. */
export function findOnPath(command: string, path: string): string | undefined {
  for (const folder of path.split(delimiter))
    for (const ending of endings) {
      const file = join(folder, command + ending);
      try {
        accessSync(file, constants.X_OK);
        return file;
      } catch {
        // not here
      }
    }
  return undefined;
}

import { readEnvFile } from '../plans/variables.js';

/** What decides how programs are loaded is for whoever starts them to say. */
const notFromFiles = /^(?:PATH|PATHEXT|NODE_\w+|LD_\w+|DYLD_\w+|npm_\w+|HOME|SHELL|IFS)$/i;

const adopted = new Set<string>();

/** What `.env` in this folder says holds where the environment says nothing. */
export async function adoptEnvFile(): Promise<void> {
  for (const [name, value] of Object.entries(await readEnvFile(process.cwd())))
    if (process.env[name] === undefined && !notFromFiles.test(name)) {
      process.env[name] = value;
      adopted.add(name);
    }
}

/** True when a variable was taken from `.env`. */
export const isFromEnvFile = (name: string): boolean => adopted.has(name);

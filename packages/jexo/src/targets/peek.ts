import { readFileSync, statSync } from 'node:fs';

/** A look at what a target's text may name on this disk. Nothing is read before it is asked for. */
export interface Peek {
  /** Undefined when nothing lies there. */
  readonly what: 'file' | 'folder' | undefined;
  /** What the file holds; empty when there is none, or it is too large to be a description of anything. */
  readonly text: string;
}

const mostBytes = 100 * 1024 * 1024;

export function peekAt(path: string): Peek {
  let found: { readonly what: Peek['what']; readonly size: number } | undefined;
  let text: string | undefined;
  const look = () => {
    if (found !== undefined) return found;
    const stats = /^[a-z][a-z0-9+.-]+:\/\//i.test(path) ? undefined : statSync(path, { throwIfNoEntry: false });
    return (found = { what: stats?.isDirectory() ? 'folder' : stats?.isFile() ? 'file' : undefined, size: stats?.size ?? 0 });
  };
  return {
    get what() {
      return look().what;
    },
    get text() {
      return (text ??= look().what === 'file' && look().size <= mostBytes ? readText(path) : '');
    },
  };
}

function readText(path: string): string {
  try {
    return readFileSync(path, 'utf8');
  } catch {
    return ''; // whoever opens it says why it cannot be read
  }
}

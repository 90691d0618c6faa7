import { compileSchema, type Issue } from '../offers/schema.js';
import type { Tool } from '../protocol/types.js';
import type { ShelfItem } from './shelf.js';

/** What is wrong with inputs, by the schemas that the tools have now. */
export interface BenchChecks {
  /** Empty for a tool that is not there. */
  check(connection: number, tool: string, input: unknown): Promise<readonly Issue[]>;
  /** The tools of a connection may have changed. */
  forget(connection: number): void;
}

export function createBenchChecks(shelfOf: (connection: number) => readonly ShelfItem[]): BenchChecks {
  const compiled = new Map<string, ReturnType<typeof compileSchema>>();
  return {
    async check(connection, tool, input) {
      const key = `${connection} ${tool}`;
      let schema = compiled.get(key);
      if (schema === undefined) {
        const found = shelfOf(connection).find((item) => item.kind === 'tool' && item.key === tool);
        if (found === undefined) return [];
        compiled.set(key, (schema = compileSchema((found.offer as Tool).inputSchema, 'input', `tool ${tool}`)));
      }
      // Checking fills in defaults; the person's own input stays as it is.
      const checked = await schema.check(structuredClone(input));
      return checked.ok ? [] : checked.issues;
    },
    forget(connection) {
      for (const key of compiled.keys()) if (key.startsWith(`${connection} `)) compiled.delete(key);
    },
  };
}

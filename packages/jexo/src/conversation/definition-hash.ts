import type { Tool } from '../protocol/types.js';

/**
 * A short text that changes with what a tool says of itself: its name, title, description, schemas and annotations. In pages without
 * a secure context, where nothing can be hashed, it is the whole definition.
 */
export async function definitionHash({ name, title, description, inputSchema, outputSchema, annotations }: Tool): Promise<string> {
  const text = JSON.stringify(sorted({ name, title, description, inputSchema, outputSchema, annotations }));
  const { crypto } = globalThis as { crypto?: Crypto };
  if (crypto?.subtle === undefined) return text;
  const bytes = new Uint8Array(await crypto.subtle.digest('SHA-256', new TextEncoder().encode(text)));
  return `sha256-${[...bytes].map((byte) => byte.toString(16).padStart(2, '0')).join('')}`;
}

/** The same value whatever the order in which its members were written. */
function sorted(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sorted);
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value)
      .filter(([, each]) => each !== undefined)
      .sort(([a], [b]) => (a < b ? -1 : 1))
      .map(([key, each]) => [key, sorted(each)]),
  );
}

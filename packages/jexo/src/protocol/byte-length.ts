interface Bytes {
  readonly Buffer?: { byteLength(text: string): number };
}
const encoder = new TextEncoder();

/** How many bytes a text has as UTF-8. */
export function byteLength(text: string): number {
  return (globalThis as Bytes).Buffer?.byteLength(text) ?? encoder.encode(text).length;
}

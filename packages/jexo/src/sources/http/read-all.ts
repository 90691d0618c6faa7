import type { JexoError } from '../../errors.js';

/** Reads a body whole, and stops when there is too much of it. @throws what `tooLarge` gives */
export async function readAll(response: Response, most: number, tooLarge: () => JexoError): Promise<Uint8Array> {
  const reader = response.body?.getReader();
  if (reader === undefined) return new Uint8Array(0);
  const parts: Uint8Array[] = [];
  let length = 0;
  for (;;) {
    const { done, value } = await reader.read();
    if (done) break;
    length += value.length;
    if (length > most) {
      await reader.cancel().catch(() => undefined); // it is given up anyway
      throw tooLarge();
    }
    parts.push(value);
  }
  if (parts.length === 1) return parts[0]!;
  const whole = new Uint8Array(length);
  let at = 0;
  for (const part of parts) {
    whole.set(part, at);
    at += part.length;
  }
  return whole;
}

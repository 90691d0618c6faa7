import { closeSync, openSync, writeSync } from 'node:fs';
import { JexoError, messageOf } from '../errors.js';
import { maskSecrets } from '../inspect/recorder.js';
import type { WireTap } from '../transports/link.js';

export interface WireLog {
  readonly tap: WireTap;
  close(): void;
}

/**
 * Writes every message that passes into a file, a line of JSON each, with secrets masked.
 * @throws JexoError JEXO_USAGE when the file cannot be written
 */
export function openWireLog(file: string): WireLog {
  let handle: number;
  try {
    handle = openSync(file, 'a', 0o600);
  } catch (error) {
    throw new JexoError('JEXO_USAGE', `The wire log cannot be written: ${messageOf(error)}`, { where: file, cause: error });
  }
  let seq = 0;
  return {
    tap: (event) => void writeSync(handle, `${JSON.stringify({ seq: ++seq, ...(maskSecrets(event) as object) })}\n`),
    close: () => closeSync(handle),
  };
}

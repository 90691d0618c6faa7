import { closeSync, openSync, writeSync } from 'node:fs';
import { JexoError, messageOf } from '../errors.js';
import { maskSecrets } from '../inspect/recorder.js';
import type { WireTap } from '../transports/link.js';
import { note, onErr, symbols } from './terminal.js';

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
  let isWritable = true;
  return {
    tap(event) {
      if (!isWritable) return;
      try {
        writeSync(handle, `${JSON.stringify({ seq: ++seq, ...(maskSecrets(event) as object) })}\n`);
      } catch (error) {
        // A full disk ends the log, and nothing else.
        isWritable = false;
        note(`${onErr('ochre', symbols.warn)} ${file} cannot be written any more: ${messageOf(error)}. What follows is not logged.`);
      }
    },
    close: () => closeSync(handle),
  };
}

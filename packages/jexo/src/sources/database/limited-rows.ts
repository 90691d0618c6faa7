import { JexoError } from '../../errors.js';
import type { ReadLimits, ResultColumn, Rows } from './driver.js';

/** Collects rows until a limit is reached. */
export interface Collector {
  /** False when no further row is wanted. */
  add(row: readonly unknown[]): boolean;
  rows(columns: readonly ResultColumn[]): Rows;
}

/** About as many characters as a row has as JSON. */
function sizeOf(row: readonly unknown[]): number {
  let size = 2;
  for (const value of row) {
    if (typeof value === 'string') size += value.length + 3;
    else size += typeof value === 'object' && value !== null ? JSON.stringify(value).length + 1 : 8;
  }
  return size;
}

/** Keeps as many rows as the limits allow, and notes which limit ended it. */
export function collectRows({ maxRows, maxBytes }: Pick<ReadLimits, 'maxRows' | 'maxBytes'>): Collector {
  const kept: (readonly unknown[])[] = [];
  let bytes = 0;
  let cut: Rows['cut'];
  return {
    add(row) {
      if (kept.length >= maxRows) {
        cut = 'rows';
        return false;
      }
      const own = sizeOf(row);
      bytes += own;
      if (own > maxBytes)
        throw new JexoError('JEXO_SQL', `One row has ${own} bytes, and an answer holds at most ${maxBytes}.`, {
          next: 'Select fewer columns, or a part of the long ones: substr(column, 1, 1000).',
        });
      if (bytes > maxBytes && kept.length > 0) {
        cut = 'bytes';
        return false;
      }
      kept.push(row);
      return true;
    },
    rows: (columns) => ({ columns, rows: kept, ...(cut && { cut }) }),
  };
}

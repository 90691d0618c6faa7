import { isJexoError } from '../errors.js';

/** A fault as an operator reads it: of ours what happened and what to do, of other code where it happened. */
export function describeFault(error: unknown): string {
  if (isJexoError(error)) return `${error.message} (${error.code})${error.next === '' ? '' : ` ${error.next}`}`;
  return error instanceof Error ? (error.stack ?? error.message) : String(error);
}

/** Where nobody says what to do with faults they are printed to stderr: clients only get the reference. */
export function printFault(error: unknown, reference: string): void {
  console.error(`jexo: fault ${reference}: ${describeFault(error)}`);
}

import type { Change } from '../pack/compare.js';
import { note, onErr, onOut, print, printJson, symbols } from './terminal.js';
import { counted } from '../protocol/counted.js';

/** Prints what has changed for callers. @returns 1 when something may break them */
export function reportChanges(changes: readonly Change[], against: string, asJson: boolean): number {
  const breaking = changes.filter((each) => each.breaking);
  if (asJson) printJson(JSON.stringify({ against, breaking: breaking.length, changes }, null, 2));
  else if (changes.length === 0) note(`${onErr('moss', symbols.ok)} Callers of ${against} notice nothing.`);
  else {
    for (const { breaking: isBreaking, subject, what } of changes)
      print(
        `${isBreaking ? onOut('brick', 'breaking') : onOut('quiet', 'harmless')}  ${subject}${/^(?:input|output)/.test(what) ? ':' : ''} ${what}`,
      );
    note(
      breaking.length === 0
        ? `${onErr('moss', symbols.ok)} ${counted(changes.length, 'change')}; callers of ${against} go on as before.`
        : `${onErr('brick', symbols.failed)} ${counted(breaking.length, 'change')} may break callers of ${against}.`,
    );
  }
  return breaking.length > 0 ? 1 : 0;
}

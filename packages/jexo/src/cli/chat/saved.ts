import type { Clients } from '../../client/clients.js';
import type { Step } from '../../conversation/steps.js';
import { JexoError } from '../../errors.js';
import { wireOfConversation, withRequest } from '../../inspect/conversation-trace.js';
import { callsFromWire } from '../../inspect/sheets/from-wire.js';
import { addCall } from '../../inspect/sheets/write-sheet.js';
import { readIfThere, requireSheetName, targetFromSheet, writeSheet } from '../keep-call.js';

/** The steps of one request, and when it began. */
export interface HeldRequest {
  readonly startedAt: number;
  readonly steps: readonly Step[];
}

/** A call sheet that was written. */
export interface SavedSheet {
  readonly file: string;
  readonly calls: number;
}

/**
 * Writes the calls of a conversation as call sheets that replay them: one for each server that was called, since a sheet has one target.
 * @throws JexoError JEXO_USAGE when nothing was called, or a sheet is there already
 */
export async function saveConversation(file: string, held: readonly HeldRequest[], clients: Clients): Promise<SavedSheet[]> {
  requireSheetName(file);
  const called = [...new Set(held.flatMap(({ steps }) => steps.flatMap((step) => (step.kind === 'call' ? [step.server] : []))))];
  if (called.length === 0)
    throw new JexoError('JEXO_USAGE', 'No tool was called yet, so there is nothing to save.', { next: 'Ask for something first.' });
  const sheets: { file: string; text: string; calls: number }[] = [];
  for (const server of called) {
    const own = called.length === 1 ? file : file.replace(/\.calls\.(ya?ml|json)$/i, `.${server}.calls.$1`);
    if ((await readIfThere(own)) !== '')
      throw new JexoError('JEXO_USAGE', `${own} is there already.`, { where: own, next: 'Choose another name.' });
    const events = held.flatMap(({ steps, startedAt }, index) => withRequest(wireOfConversation(steps, startedAt, server), index));
    const calls = await callsFromWire(events);
    const address = clients.servers().find(({ name }) => name === server)!.address;
    // How a command was divided into words is not known here: its sheet names no target.
    const target = address.startsWith('-- ') ? undefined : targetFromSheet(own, address);
    sheets.push({ file: own, text: calls.reduce((text, call) => addCall(text, own, call, target), ''), calls: calls.length });
  }
  for (const { file: own, text } of sheets) await writeSheet(own, text);
  return sheets.map(({ file: own, calls }) => ({ file: own, calls }));
}

import { readFile, rename, rm, writeFile } from 'node:fs/promises';
import { dirname, isAbsolute, join, relative, resolve, sep } from 'node:path';
import type { ServerAnswers } from '../client/answer-server.js';
import { JexoError, messageOf } from '../errors.js';
import { copyCall, copyForms, type CopiedCall, type CopyForm } from '../inspect/copy-call.js';
import { promptAnswer, resourceAnswer, toolAnswer } from '../inspect/sheets/answer-value.js';
import { readCallSheet, type KeptReply } from '../inspect/sheets/call-sheet.js';
import { addCall, type CallToKeep } from '../inspect/sheets/write-sheet.js';
import { withoutPassword } from '../protocol/without-password.js';
import type { CallToolResult, GetPromptResult, ReadResourceResult } from '../protocol/types.js';
import type { TargetWords } from './connect-target.js';
import { stableWords } from '../inspect/sheets/judge-answer.js';
import { note, onErr, print, symbols } from './terminal.js';

export interface KeepOptions {
  /** The call sheet a call is put on. */
  readonly keep?: string;
  readonly as?: CopyForm;
}

export const isCallSheet = (name: string) => /\.calls\.(?:ya?ml|json)$/i.test(name);
export const isQuestionSheet = (name: string) => /\.questions\.(?:ya?ml|json)$/i.test(name);
export const isRequestSheet = (name: string) => /\.requests\.(?:ya?ml|json)$/i.test(name);

/** Prints the call in another form in place of making it; false when that was not asked for. */
export function printCopy(target: TargetWords, call: Omit<CopiedCall, 'target'>, { as }: KeepOptions): boolean {
  if (as === undefined) return false;
  if (!copyForms.includes(as)) throw new JexoError('JEXO_USAGE', `--as wants one of ${copyForms.join(', ')}.`, { where: '--as' });
  print(copyCall({ ...call, target: target.text ?? target.command! }, as).trimEnd());
  return true;
}

/** Notes what is replied to a server's questions, so that a kept call can be replayed. */
export function notingReplies(answers: ServerAnswers): { answers: ServerAnswers; replies: NonNullable<CallToKeep['replies']>[number][] } {
  const replies: NonNullable<CallToKeep['replies']>[number][] = [];
  const { elicitation, sampling } = answers;
  return {
    replies,
    answers: {
      ...answers,
      ...(elicitation && {
        elicitation: {
          ...(elicitation.form && {
            form: async (question) => {
              const reply = await elicitation.form!(question);
              replies.push(reply.action === 'accept' ? { with: reply.content ?? {} } : reply.action);
              return reply;
            },
          }),
          ...(elicitation.url && {
            url: async (question) => {
              const reply = await elicitation.url!(question);
              replies.push(reply.action);
              return reply;
            },
          }),
        },
      }),
      ...(sampling && {
        sampling: {
          ...sampling,
          create: async (request, signal, asker) => {
            const reply = await sampling.create(request, signal, asker);
            const [first] = [reply.content].flat();
            replies.push(first?.type === 'text' ? { say: first.text } : 'decline');
            return reply;
          },
        },
      }),
    },
  };
}

type Kept = Omit<CallToKeep, 'must' | 'replies' | 'kind' | 'name'> & {
  readonly replies?: readonly (Partial<KeptReply> | KeptReply['action'])[];
};

export async function keepTool(file: string, target: TargetWords, call: Kept, result: CallToolResult): Promise<void> {
  const answer = await toolAnswer(result);
  await keepCall(file, target, { ...call, kind: 'tool', must: result.isError ? { fail: stableWords(answer.text) } : { be: answer.value } });
}
export async function keepResource(file: string, target: TargetWords, call: Kept, result: ReadResourceResult): Promise<void> {
  await keepCall(file, target, { ...call, kind: 'resource', must: { be: (await resourceAnswer(result)).value } });
}
export async function keepPrompt(file: string, target: TargetWords, call: Kept, result: GetPromptResult): Promise<void> {
  await keepCall(file, target, { ...call, kind: 'prompt', must: { be: (await promptAnswer(result)).value } });
}

/** @throws JexoError JEXO_SHEET when the file is there and is no call sheet; it stays as it is then */
async function keepCall(file: string, { text, command }: TargetWords, call: CallToKeep): Promise<void> {
  requireSheetName(file);
  const before = await readIfThere(file);
  if (before.trim() !== '') await readCallSheet(before, file);
  const after = addCall(before, file, call, targetFromSheet(file, text) ?? command?.map(withoutPassword));
  const { calls } = await readCallSheet(after, file);
  await writeSheet(file, after);
  note(`${onErr('moss', symbols.ok)} ${onErr('quiet', `Kept on ${file} as ${calls.at(-1)!.name}. Replay it with: jexo replay ${file}`)}`);
}

export function requireSheetName(file: string): void {
  if (!isCallSheet(file))
    throw new JexoError('JEXO_USAGE', `${file} is no name of a call sheet.`, {
      where: file,
      next: 'Name it so that it ends in .calls.yaml.',
    });
}

/** A module is named from where the sheet lies. */
export function targetFromSheet(file: string, target: string | undefined): string | undefined {
  // A sheet is committed: a password does not belong in it.
  if (target === undefined || !isFileTarget(target)) return target && withoutPassword(target);
  const path = relative(dirname(resolve(file)), resolve(target))
    .split(sep)
    .join('/');
  return path.startsWith('.') ? path : `./${path}`;
}

/** True for a module or a document on this machine. */
function isFileTarget(target: string): boolean {
  return /\.(?:[cm]?[jt]sx?|ya?ml|json|sqlite3?|db3?)$/i.test(target) && !/^[a-z]+:\/\//i.test(target);
}

/** And found from there. */
export function targetOfSheet(file: string, target: string | readonly string[]): TargetWords {
  if (typeof target !== 'string') return { text: undefined, command: target };
  return { text: isFileTarget(target) && !isAbsolute(target) ? join(dirname(file), target) : target, command: undefined };
}

export async function readIfThere(file: string): Promise<string> {
  try {
    return await readFile(file, 'utf8');
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT') return '';
    throw new JexoError('JEXO_SHEET', `${file} cannot be read: ${messageOf(error)}`, { where: file, cause: error });
  }
}

/** @throws JexoError JEXO_SHEET when there is no such file */
export async function readSheetFile(file: string): Promise<string> {
  try {
    return await readFile(file, 'utf8');
  } catch (error) {
    throw new JexoError('JEXO_SHEET', `${file} cannot be read: ${messageOf(error)}`, {
      where: file,
      next: 'Check the path.',
      cause: error,
    });
  }
}

/** Written beside and moved into place: a sheet is never half there. */
export async function writeSheet(file: string, text: string): Promise<void> {
  const beside = `${file}.${process.pid}.tmp`;
  try {
    await rm(beside, { force: true });
    await writeFile(beside, text, { flag: 'wx' });
    await rename(beside, file);
    if ((await readFile(file, 'utf8')) !== text) throw new Error('it does not hold what was written');
  } catch (error) {
    throw new JexoError('JEXO_USAGE', `${file} cannot be written: ${messageOf(error)}`, { where: file, cause: error });
  }
}

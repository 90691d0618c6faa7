import type { Client } from '../../client/connect-link.js';
import { converse } from '../../conversation/converse.js';
import { memory } from '../../conversation/memory.js';
import type { Limits } from '../../conversation/steps.js';
import type { Model } from '../../models/model.js';
import { differences } from '../difference.js';
import { likeness } from '../sheets/judge-answer.js';
import type { Script } from '../sheets/script.js';
import { says } from '../sheets/sheet-text.js';
import type { KeptConversation } from './request-sheet.js';

/** What a conversation led to, and in what it is not what the sheet says. */
export interface RehearsedConversation {
  /** The tools that were called, in order. */
  readonly called: readonly string[];
  readonly answer: string;
  /** Empty when it went as the sheet says. */
  readonly wrong: readonly string[];
}

/** What conversations of a sheet are held over. */
export interface ConversationStage {
  readonly client: Client;
  /** Its answers are those the client was connected with. */
  readonly script: Script;
  readonly model: Model;
  readonly limits?: Limits;
  readonly signal?: AbortSignal;
}

/**
 * Holds a conversation of a request sheet and compares what was called, with which input, and what was answered. Only tools that its steps
 * name are called.
 */
export async function rehearseConversation(
  { say, steps, answer, replies }: KeptConversation,
  { client, script, model, limits, signal }: ConversationStage,
): Promise<RehearsedConversation> {
  const named = new Set(steps.flatMap(({ tools }) => tools));
  const kept = memory();
  const called: { name: string; input: Readonly<Record<string, unknown>> }[] = [];
  const wrong: string[] = [];
  let said = '';
  script.begin(replies);
  for (const request of say) {
    const outcome = await converse({
      clients: client,
      request,
      model,
      memory: kept,
      approve: ({ tool: { name } }) => ({
        approved: named.has(name),
        by: 'rule',
        why: 'This is a rehearsal, and none of its steps names this tool.',
      }),
      ...(limits && { limits }),
      ...(signal && { signal }),
    });
    signal?.throwIfAborted();
    said = outcome.answer;
    for (const step of outcome.steps) if (step.kind === 'approval') called.push({ name: step.name, input: step.input });
    if (outcome.error !== undefined) throw outcome.error;
    if (outcome.ended !== 'answered') wrong.push(`It ended without an answer: ${outcome.ended}.`);
  }
  const names = called.map(({ name }) => name);
  const isRight = names.length === steps.length && steps.every(({ tools }, index) => tools.includes(names[index]!));
  if (!isRight) wrong.push(`It should call ${list(steps.map(({ tools }) => tools.join(' or ')))}; it called ${list(names)}.`);
  else
    for (const [index, { input }] of steps.entries())
      for (const { path, before, after } of input === undefined ? [] : differences(input, likeness(input, called[index]!.input)))
        wrong.push(
          `Step ${index + 1}, ${names[index]}: ${path} should be ${JSON.stringify(before)}; it was ${after === undefined ? 'missing' : JSON.stringify(after)}.`,
        );
  for (const words of answer) if (!says(said, words)) wrong.push(`The answer should hold ${words}.`);
  wrong.push(...script.end().map(({ message }) => message));
  return { called: names, answer: said, wrong };
}

const list = (names: readonly string[]) => (names.length === 0 ? 'nothing' : names.join(', then '));

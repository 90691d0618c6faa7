import type { Answered, FormQuestion, PageQuestion } from '../client/answer-server.js';
import type { Client } from '../client/client.js';
import type { Clients } from '../client/clients.js';
import { JexoError } from '../errors.js';
import type { Model, TalkImage } from '../models/model.js';
import { standIn } from '../models/stand-in.js';
import type { CreateMessageParams, ElicitResult } from '../protocol/types.js';
import type { Approve } from './approvals.js';
import { Conversation } from './conversation.js';
import type { Memory } from './memory.js';
import type { Limits, Outcome, Step } from './steps.js';

/** A resource or a prompt of a server, put before the request. */
export type ConverseContext =
  { readonly uri: string; readonly server?: string } | { readonly prompt: string; readonly input?: Readonly<Record<string, string>> };

/** A conversation: over which servers, with which model, about what, and how far it may go. */
export interface ConverseOptions {
  /** The servers: from `connectAll`, or one from `connect`. They stay open. */
  readonly clients: Clients | Client;
  /** What the person asks for. */
  readonly request: string;
  /** Images that belong to the request. */
  readonly images?: readonly TalkImage[];
  /** What chooses tools and answers. Default: the stand-in, which is no model and says so. */
  readonly model?: Model;
  /** What was said before, and where this is kept. Default: nothing is. */
  readonly memory?: Memory;
  /** Decides on each call. Default: no call is made. See `approvals`. */
  readonly approve?: Approve;
  /** Called with each step as it happens. One that throws harms nothing. */
  readonly onStep?: (step: Step) => void;
  /** How far it may go. */
  readonly limits?: Limits;
  /** What a million tokens cost, for `limits.cost`, in any unit. */
  readonly price?: { readonly input: number; readonly output: number };
  /** Told to the model before all else. What servers say on their use comes behind it. */
  readonly instructions?: string;
  /** Resources and prompts to put before the request. */
  readonly context?: readonly ConverseContext[];
  /** What becomes of answers over `limits.resultTokens`: the first part, or a summary the model makes. The rest can be read on. Default `cut`. */
  readonly longAnswers?: 'cut' | 'summarise';
  /** Answers a server's question with fields. Without it, it is closed unanswered. */
  readonly onQuestion?: (question: FormQuestion) => Answered<ElicitResult>;
  /** Shows a person a page that a server wants them to visit. Without it, nobody visits it. */
  readonly onPage?: (question: PageQuestion) => Answered<Pick<ElicitResult, 'action'>>;
  /** Whether a server may have the model write something. Without it, it may not. */
  readonly consent?: (request: CreateMessageParams, server: string) => Answered<boolean>;
  /** Stops the conversation, and cancels the calls that run. */
  readonly signal?: AbortSignal;
}

/**
 * Holds a conversation until there is an answer: asks the model, has its calls approved, makes them (in parallel where it asked for several),
 * gives it the results, and asks again. Errors of tools are given to the model, so that it can correct its call.
 *
 * It always ends: with an answer, at a limit, when it is stopped, or when the model cannot be used. `ended` says which.
 *
 * @throws JexoError JEXO_USAGE for a request that is empty, or a limit that is no number
 * @example
 * const clients = await connectAll('hosts.json');
 * const { answer, ended } = await converse({
 *   clients,
 *   model: chatCompletions({ baseUrl: 'http://127.0.0.1:8080/v1', model: 'small' }),
 *   request: 'Which hives of Millrace need feeding?',
 *   approve: approvals({ allow: ['read-only'] }),
 *   onStep: (step) => console.error(step.kind),
 * });
 */
export async function converse(options: ConverseOptions): Promise<Outcome> {
  const { request, limits = {}, model = standIn } = options;
  if (typeof request !== 'string' || request.trim() === '')
    throw new JexoError('JEXO_USAGE', 'The request is empty.', { next: 'Say what is wanted in request.' });
  for (const [name, value] of Object.entries(limits))
    if (value !== undefined && (typeof value !== 'number' || Number.isNaN(value) || value < 0))
      throw new JexoError('JEXO_USAGE', `The limit ${name} is not a number from 0 on.`, { where: `limits.${name}` });
  if (limits.cost !== undefined && options.price === undefined)
    throw new JexoError('JEXO_USAGE', 'A limit on the cost needs to know what tokens cost.', {
      where: 'limits.cost',
      next: 'Give price: { input, output }.',
    });
  return new Conversation({ ...options, model }).hold();
}

import type { Asker } from '../client/answer-server.js';
import { compileSchema, type Issue } from '../offers/schema.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import type { CreateMessageParams, CreateMessageResult, ElicitResult } from '../protocol/types.js';
import type { ServerAnswers } from '../client/answer-server.js';
import type { BenchEvent, Question, Reply } from './bench-state.js';
import type { BenchCalls } from './bench-calls.js';
import { standInModel } from '../models/stand-in-model.js';

/** The questions that servers ask of the person at the bench. */
export interface BenchQuestions {
  /** Those that wait for an answer. */
  open(): readonly Question[];
  /** What the question's schema does not allow in the answer: then nothing is sent. Undefined when nobody waits for it any more. */
  reply(id: number, reply: Reply): Promise<readonly Issue[] | undefined>;
  /** Answers what the server of a connection asks. */
  answersFor(connection: number): ServerAnswers;
  withdrawAll(): void;
}

interface Asked {
  question: Question;
  readonly settle: (reply: Reply | undefined) => void;
}

/** @param calls a question is shown on the call it most likely belongs to */
export function createBenchQuestions(calls: BenchCalls, emit: (event: BenchEvent) => void): BenchQuestions {
  const questions = new Map<number, Asked>();
  let last = 0;

  /** Puts a question before the person, and waits. */
  const ask = (asked: Omit<Question, 'id' | 'state'>, signal: AbortSignal): Promise<Reply | undefined> =>
    new Promise((resolve) => {
      const id = ++last;
      const sheet = calls.runningOn(asked.connection).at(-1);
      const change = (by: Partial<Question>) => {
        const found = questions.get(id)!;
        found.question = { ...found.question, ...by };
        emit({ kind: 'question', question: found.question });
        if (sheet !== undefined) calls.showQuestion(sheet, found.question);
      };
      const settle = (reply: Reply | undefined) => {
        if (questions.get(id)!.question.state !== 'open') return;
        change({
          state: reply === undefined ? 'withdrawn' : reply.action === 'accept' ? 'answered' : 'declined',
          ...(reply?.action === 'accept' && { answer: reply.content ?? reply.text }),
        });
        resolve(reply);
      };
      questions.set(id, { question: { ...asked, id, state: 'open' }, settle });
      signal.addEventListener('abort', () => settle(undefined), { once: true });
      change({});
    });

  const sample = async (
    connection: number,
    request: CreateMessageParams,
    signal: AbortSignal,
    asker: Asker,
  ): Promise<CreateMessageResult> => {
    const [first] = [request.messages.at(-1)?.content ?? []].flat();
    const message = first?.type === 'text' ? first.text : 'The server wants the model’s answer.';
    const reply = await ask({ connection, kind: 'sampling', message, asker, request }, signal);
    if (reply?.action !== 'accept') throw new RpcError(errorCodes.userRejected, 'The person refused the request');
    if (reply.standIn) return standInModel(request);
    return { role: 'assistant', content: { type: 'text', text: reply.text ?? '' }, model: 'a person at the bench', stopReason: 'endTurn' };
  };

  return {
    open: () => [...questions.values()].map(({ question }) => question).filter(({ state }) => state === 'open'),
    async reply(id, reply) {
      const found = questions.get(id);
      if (found === undefined || found.question.state !== 'open') return undefined;
      const { schema } = found.question;
      if (reply.action === 'accept' && schema !== undefined) {
        // Checking fills in defaults; what the person answered stays as it is.
        const checked = await compileSchema(schema, 'input', 'the answer').check(structuredClone(reply.content ?? {}));
        if (!checked.ok) return checked.issues;
      }
      found.settle(reply);
      return [];
    },
    answersFor: (connection) => ({
      elicitation: {
        form: async ({ message, requestedSchema, asker, signal }) =>
          toElicited(await ask({ connection, kind: 'form', message, asker, schema: requestedSchema }, signal)),
        url: async ({ message, url, warnings, asker, signal }) => {
          const { action } = toElicited(await ask({ connection, kind: 'page', message, asker, url, warnings }, signal));
          return { action };
        },
      },
      sampling: { create: (request, signal, asker) => sample(connection, request, signal, asker) },
    }),
    withdrawAll() {
      for (const { settle } of questions.values()) settle(undefined);
    },
  };
}

function toElicited(reply: Reply | undefined): ElicitResult {
  if (reply === undefined) return { action: 'cancel' };
  return reply.action === 'accept' ? { action: 'accept', content: reply.content ?? {} } : { action: reply.action };
}

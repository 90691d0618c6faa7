import type { ServerAnswers } from '../../client/answer-server.js';
import { errorCodes, RpcError } from '../../protocol/json-rpc.js';
import type { ElicitResult } from '../../protocol/types.js';
import type { KeptReply } from './call-sheet.js';
import type { Wrong } from './judge-answer.js';
import { says } from './sheet-text.js';

/** Replies of a sheet to what servers ask. */
export interface Script {
  /** For the connection. */
  readonly answers: ServerAnswers;
  /** From now on these are the replies, in order. */
  begin(replies: readonly KeptReply[]): void;
  /** What was asked without a reply, and what was never asked. */
  end(): Wrong[];
}

/** Answers what a server asks with the replies of the call that is running. */
export function createScript(): Script {
  let left: KeptReply[] = [];
  let wrong: Wrong[] = [];
  const next = (message: string, hint: string): KeptReply | undefined => {
    const reply = left.shift();
    if (reply === undefined)
      wrong.push({ message: `The server asked ${JSON.stringify(message)}, and the sheet has no reply to it. ${hint}` });
    else if (reply.to !== undefined && !says(message, reply.to))
      wrong.push({ message: `The server asked ${JSON.stringify(message)}; the sheet's reply is to ${reply.to}.` });
    return reply;
  };
  const hint = 'Put one under replies, as: - with: { to: SM }';
  return {
    /** From now on these are the replies, in order. */
    begin(replies) {
      left = [...replies];
      wrong = [];
    },
    end() {
      return [...wrong, ...left.map(({ to }) => ({ message: `A reply was never asked for${to === undefined ? '.' : `: ${to}`}` }))];
    },
    answers: {
      elicitation: {
        form({ message }): ElicitResult {
          const reply = next(message, hint);
          return reply === undefined || reply.action !== 'accept'
            ? { action: reply?.action ?? 'cancel' }
            : { action: 'accept', content: { ...reply.with } as NonNullable<ElicitResult['content']> };
        },
        url: ({ message }) => ({ action: next(message, 'Put one under replies, as: - accept')?.action ?? 'cancel' }),
      },
      sampling: {
        create({ messages }) {
          const [first] = [messages.at(-1)?.content ?? []].flat();
          const reply = next(
            first?.type === 'text' ? first.text : 'for a model’s answer',
            'Put one under replies, as: - say: what the model says',
          );
          if (reply?.say === undefined) throw new RpcError(errorCodes.userRejected, 'The person refused the request');
          return { role: 'assistant', content: { type: 'text', text: reply.say }, model: 'call-sheet', stopReason: 'endTurn' };
        },
      },
    },
  };
}

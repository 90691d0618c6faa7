import type { Params } from '../../protocol/json-rpc.js';
import type { CallToolResult, GetPromptResult, ReadResourceResult } from '../../protocol/types.js';
import type { WireEvent } from '../../transports/link.js';
import { promptAnswer, resourceAnswer, toolAnswer } from './answer-value.js';
import type { KeptReply } from './call-sheet.js';
import { stableWords } from './judge-answer.js';
import type { CallToKeep } from './write-sheet.js';

interface Message {
  readonly id?: string | number;
  readonly method?: string;
  readonly params?: Params;
  readonly result?: Params;
  readonly error?: { readonly message: string };
}

const makers: Readonly<Record<string, (params: Params, result: Params) => Promise<CallToKeep>>> = {
  async 'tools/call'(params, result) {
    const answer = await toolAnswer(result as unknown as CallToolResult);
    const must = result.isError === true ? { fail: stableWords(answer.text) } : { be: answer.value };
    return { kind: 'tool', subject: params.name, input: params.arguments ?? {}, must };
  },
  'resources/read': async (params, result) => ({
    kind: 'resource',
    subject: params.uri,
    input: {},
    must: { be: (await resourceAnswer(result as unknown as ReadResourceResult)).value },
  }),
  'prompts/get': async (params, result) => ({
    kind: 'prompt',
    subject: params.name,
    input: params.arguments ?? {},
    must: { be: (await promptAnswer(result as unknown as GetPromptResult)).value },
  }),
};

/**
 * The calls of a trace or a wire log, with what they were answered and what was replied to the server's questions meanwhile.
 * Calls that were never answered are dropped.
 */
export async function callsFromWire(events: readonly WireEvent[]): Promise<CallToKeep[]> {
  const open = new Map<string, { method: string; params: Params; replies: (Partial<KeptReply> | 'decline' | 'cancel')[]; place: number }>();
  const asked = new Map<string, { params: Params; method: string; call: string | undefined }>();
  const calls: (CallToKeep | undefined)[] = [];
  for (const { way, message: whole } of events)
    for (const message of [whole].flat() as Message[]) {
      if (typeof message !== 'object' || message === null || message.id === undefined) continue;
      const id = JSON.stringify(message.id);
      const { method, params = {}, result, error } = message;
      if (way === 'sent' && method !== undefined && method in makers) {
        open.set(id, { method, params, replies: [], place: calls.length });
        calls.push(undefined);
      } else if (way === 'received' && (method === 'elicitation/create' || method === 'sampling/createMessage')) {
        asked.set(id, { params, method, call: [...open.keys()].at(-1) });
      } else if (way === 'sent' && method === undefined && asked.has(id)) {
        const question = asked.get(id)!;
        asked.delete(id);
        open.get(question.call ?? '')?.replies.push(replyOf(question.method, result));
      } else if (way === 'received' && method === undefined && open.has(id)) {
        const call = open.get(id)!;
        open.delete(id);
        const made =
          error === undefined
            ? await makers[call.method]!(call.params, result ?? {})
            : {
                ...(await makers[call.method]!(call.params, { content: [], contents: [], messages: [] })),
                must: { fail: stableWords(error.message) },
              };
        calls[call.place] = { ...made, ...(call.replies.length > 0 && { replies: call.replies }) };
      }
    }
  return calls.filter((call) => call !== undefined);
}

function replyOf(method: string, result: Params | undefined): Partial<KeptReply> | 'decline' | 'cancel' {
  if (method === 'sampling/createMessage') {
    const [first] = [result?.content ?? []].flat() as { text?: string }[];
    return first?.text === undefined ? 'decline' : { say: first.text };
  }
  return result?.action === 'accept' ? { with: result.content ?? {} } : result?.action === 'decline' ? 'decline' : 'cancel';
}

import type { Step } from '../conversation/steps.js';
import { maskSecrets } from './recorder.js';
import type { WireEvent } from '../transports/link.js';

/**
 * A conversation's calls and its servers' questions as messages of a wire log: the inspector opens it, and call sheets are made of it. Ids are
 * those of the model's calls, so that calls of several servers do not meet.
 *
 * @param startedAt the conversation's first moment, in milliseconds since the epoch
 * @param server only what concerns this one, with the names its tools have there. Default: all, with the names the model saw
 */
export function wireOfConversation(steps: readonly Step[], startedAt: number, server?: string): WireEvent[] {
  const ids = new Map<string, string>();
  const events: WireEvent[] = [];
  const add = (at: number, way: WireEvent['way'], message: object, note?: string) => {
    const whole = { jsonrpc: '2.0', ...message };
    events.push({ at: startedAt + at, way, bytes: JSON.stringify(whole).length, message: whole, ...(note !== undefined && { note }) });
  };
  for (const step of steps) {
    if (step.kind === 'call' && (server === undefined || step.server === server)) {
      ids.set(step.id, `${step.server}:${step.id}`);
      const name = server === undefined ? step.name : step.ownName;
      add(step.at, 'sent', { id: ids.get(step.id), method: 'tools/call', params: { name, arguments: step.input } }, step.server);
    } else if (step.kind === 'result' && ids.has(step.id)) {
      const id = ids.get(step.id);
      add(
        step.at,
        'received',
        step.result === undefined ? { id, error: { code: -32603, message: step.text } } : { id, result: step.result },
      );
    } else if (step.kind === 'progress' && ids.has(step.id)) {
      const { progress, total, message } = step;
      add(step.at, 'received', { method: 'notifications/progress', params: { progressToken: ids.get(step.id), progress, total, message } });
    } else if (step.kind === 'question' && (server === undefined || step.server === server)) {
      const id = `${step.server}:question-${step.n}`;
      const requestedSchema = { type: 'object', properties: {} };
      add(step.at, 'received', { id, method: 'elicitation/create', params: { message: step.message, requestedSchema } }, step.server);
      add(step.at, 'sent', { id, result: { action: step.action, ...(step.content !== undefined && { content: step.content }) } });
    } else if (step.kind === 'generated' && (server === undefined || step.server === server)) {
      const id = `${step.server}:generated-${step.n}`;
      add(step.at, 'received', { id, method: 'sampling/createMessage', params: { messages: [], maxTokens: 1 } }, step.server);
      add(
        step.at,
        'sent',
        step.agreed
          ? { id, result: { role: 'assistant', content: { type: 'text', text: step.text ?? '' }, model: 'model' } }
          : { id, error: { code: -1, message: 'The person refused the request' } },
      );
    }
  }
  return events;
}

/**
 * A conversation as a wire log: lines of JSON that the inspector opens, with secrets masked.
 * @param startedAt when it began, in milliseconds since the epoch. Default: so that it has ended now
 * @param request put before the ids of calls, where several conversations go into one file
 * @example
 * const { steps } = await converse({ clients, request });
 * await writeFile('trace.jsonl', conversationTrace(steps));
 */
export function conversationTrace(steps: readonly Step[], startedAt = Date.now() - (steps.at(-1)?.at ?? 0), request = 1): string {
  return withRequest(wireOfConversation(steps, startedAt), request)
    .map((event) => `${JSON.stringify(maskSecrets(event))}\n`)
    .join('');
}

/** Ids of calls begin again with each request: its number tells them apart. */
export function withRequest(events: readonly WireEvent[], request: number): WireEvent[] {
  return events.map((event) => {
    const message = event.message as { readonly id?: string };
    return message.id === undefined ? event : { ...event, message: { ...message, id: `${request}:${message.id}` } };
  });
}

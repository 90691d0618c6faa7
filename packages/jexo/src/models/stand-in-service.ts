import type { TalkEntry } from './model.js';
import { isRecord } from '../protocol/is-record.js';
import type { Tool } from '../protocol/types.js';
import { standInChooser } from './stand-in-chooser.js';

/**
 * A stand-in for a model service: it speaks the chat-completions JSON at `/chat/completions`, and behind it is the stand-in, which
 * is no model and says so. For trying and testing what talks to such a service.
 *
 * @param options `key`: what must come as `Authorization: Bearer`; none is asked for without it
 */
export function standInService({ key }: { readonly key?: string } = {}): (request: Request) => Promise<Response> {
  return async (request) => {
    const { pathname } = new URL(request.url);
    if (request.method !== 'POST' || !pathname.endsWith('/chat/completions')) return refuse(404, `There is nothing at ${pathname}.`);
    if (key !== undefined && request.headers.get('authorization') !== `Bearer ${key}`) return refuse(401, 'The key is wrong or missing.');
    const body: unknown = await request.json().catch(() => undefined);
    if (!isRecord(body) || !Array.isArray(body.messages)) return refuse(400, 'The body must be JSON with messages.');
    const tools = ((body.tools ?? []) as { function: { name: string; description?: string; parameters?: object } }[]).map(
      ({ function: { name, description, parameters } }): Tool => ({
        name,
        inputSchema: { type: 'object', ...parameters },
        ...(description !== undefined && { description }),
      }),
    );
    const { calls, text } = await standInChooser.next({ tools, talk: (body.messages as Record<string, unknown>[]).flatMap(toEntry) });
    const message = {
      role: 'assistant',
      content: text ?? null,
      ...(calls.length > 0 && {
        tool_calls: calls.map(({ id, name, input }) => ({ id, type: 'function', function: { name, arguments: JSON.stringify(input) } })),
      }),
    };
    return Response.json({
      id: 'stand-in',
      object: 'chat.completion',
      model: `stand-in (asked for ${String(body.model)})`,
      choices: [{ index: 0, message, finish_reason: calls.length > 0 ? 'tool_calls' : 'stop' }],
    });
  };
}

function toEntry({ role, content, tool_call_id: id }: Record<string, unknown>): TalkEntry[] {
  const text = typeof content === 'string' ? content : '';
  if (role === 'user') return [{ role: 'user', text }];
  if (role === 'tool') return [{ role: 'tool', id: String(id), name: '', text }];
  return role === 'assistant' ? [{ role: 'assistant', text, calls: [] }] : [];
}

function refuse(status: number, message: string): Response {
  return Response.json({ error: { message } }, { status });
}

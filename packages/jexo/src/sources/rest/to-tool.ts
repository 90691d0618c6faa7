import type { ToolOffer } from '../../offers/offer.js';
import { tool } from '../../offers/tool.js';
import type { ToolAnnotations } from '../../protocol/types.js';
import { cutText } from '../http/cut-text.js';
import { aliasesOf, type Operation } from './operation.js';
import type { Prepared } from './prepare-operation.js';

/** A description longer than this costs more than it tells. */
const longest = 900;

/** An operation as a model sees it: what it is called, what it does, what it takes. */
export function toTool(name: string, operation: Operation, call: Prepared): ToolOffer {
  const { summary, description, deprecated, answer: promised, tags } = operation;
  const title = summary !== undefined && summary.length <= 80 ? cutText(summary, 80).replace(/\.$/, '') : undefined;
  const words = [
    ...(deprecated ? ['Deprecated: use another tool where there is one.'] : []),
    ...(summary === undefined || description?.startsWith(summary.replace(/\.$/, '')) ? [] : [sentence(cutText(summary, longest))]),
    ...(description === undefined ? [] : [cutText(description, longest)]),
    ...(promised !== undefined && tellsMore(promised.description) ? [`Answers with: ${cutText(promised.description, 160)}`] : []),
  ];
  const made = tool(
    name,
    {
      ...(title !== undefined && { title }),
      description: words.join('\n').trim() || `${operation.method} ${operation.path}`,
      annotations: annotationsOf(operation, name),
      tags: [...tags],
    },
    (input: Record<string, unknown>, context) => call.run(input, context),
  );
  return {
    ...made,
    input: call.input,
    ...(call.output && { output: call.output }),
    get where() {
      return operation.where;
    },
    aliases: aliasesOf(operation),
  };
}

const sentence = (text: string) => (/[.!?]$/.test(text.trim()) ? text.trim() : `${text.trim()}.`);
const tellsMore = (text: string) =>
  text.length > 24 && !/^(?:ok|success|successful|created|no content|default|a? ?response|the response)\b/i.test(text);

/** What the method promises (RFC 9110, 9.2). */
function annotationsOf({ method }: Operation, name: string): ToolAnnotations {
  if (method === 'GET' || method === 'HEAD' || method === 'OPTIONS') return { readOnlyHint: true };
  if (method === 'PUT') return { destructiveHint: true, idempotentHint: true };
  if (method === 'DELETE') return { destructiveHint: true, idempotentHint: true };
  const takesAway = /(?:^|_)(?:delete|remove|withdraw|cancel|revoke|close|reset|replace|update|clear|archive|drop)(?:_|$)/.test(name);
  return { destructiveHint: method === 'PATCH' || takesAway };
}

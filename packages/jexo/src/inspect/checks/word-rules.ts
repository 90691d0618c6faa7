import { propertiesOf } from '../../protocol/json-schema.js';
import type { Report, Seen } from './finding.js';

/** Zero-width, direction-changing and tag characters; those that join emoji or letters of some scripts are left alone. */
const invisible = /[\u00ad\u200b\u200e\u200f\u202a-\u202e\u2060-\u2064\u2066-\u2069\ufeff\u{e0000}-\u{e007f}]/u;
const orders =
  /\b(?:ignore|disregard|forget) (?:all |any |the )?(?:previous|prior|above|other|earlier) (?:instructions|tools|messages|rules)|\bdo not (?:tell|inform|mention|reveal)[^.]{0,40}\b(?:user|person|human)|\b(?:always|must) (?:call|use|run) this (?:tool )?(?:first|before)|<\/?(?:system|important|instructions?)>|\byou are now\b|\bsystem prompt\b|\bwithout (?:asking|telling) the (?:user|person)/i;

/** Characters nobody sees and, in words that are not ours, orders to the model. */
export function checkWords(seen: Seen, report: Report): void {
  const judge = (subject: string, text: string | undefined) => {
    if (text === undefined) return;
    const hidden = invisible.exec(text);
    if (hidden !== null)
      report({
        rule: 'invisible-characters',
        severity: 'error',
        subject,
        message: `Its text contains the invisible character U+${hidden[0].codePointAt(0)!.toString(16).toUpperCase().padStart(4, '0')} after ${JSON.stringify(text.slice(Math.max(0, hidden.index - 20), hidden.index))}.`,
        remedy: seen.foreign ? 'Do not use this server until you know why.' : 'Take it out.',
      });
    const order = seen.foreign ? orders.exec(text) : null;
    if (order !== null)
      report({
        rule: 'instruction-like-text',
        severity: 'error',
        subject,
        message: `Its text gives orders to the model: ${JSON.stringify(order[0])}.`,
        remedy: 'Do not use this server until you know why.',
      });
  };
  judge('server', seen.server.instructions);
  for (const tool of seen.tools) {
    judge(`tool ${tool.name}`, `${tool.name} ${tool.title ?? ''} ${tool.description ?? ''}`);
    for (const [name, schema] of Object.entries(propertiesOf(tool.inputSchema)))
      judge(`tool ${tool.name} ${name}`, `${name} ${String(schema.description ?? '')}`);
  }
  for (const { name, description } of seen.prompts) judge(`prompt ${name}`, `${name} ${description ?? ''}`);
  for (const { uri, description } of seen.resources) judge(`resource ${uri}`, description);
  for (const { uriTemplate, description } of seen.templates) judge(`template ${uriTemplate}`, description);
}
